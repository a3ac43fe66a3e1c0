"""Many logs through one bench: here, in some processes, or on a cluster."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, fields, replace
from os import PathLike
from pathlib import Path
from typing import Any

from .. import __version__
from ..core.bench.bench import Bench, BenchLike, bench_of
from ..core.error_types import JetRulerError, LogError
from ..core.result import Content, Result, refuses
from ..core.ruler.units import many
from ..files import write_file
from ..system import cores
from .conversion import ConvertOptions, chosen
from .summary import Summary
from .workers import Outcome, Task, Work, attempt, planned

#: The file in the folder of the results that says so.
NAME = ".jetruler-made.json"
#: Options that change no result.
NO_MATTER = ("threads", "memory")


class Manifest:
    """Results by name, each with a digest of its log, the options, the bench and the version."""

    def __init__(
        self,
        folder: str | PathLike[str],
        options: ConvertOptions,
        bench: Bench,
        inputs: Sequence[str | PathLike[str]],
    ) -> None:
        self._path = Path(folder) / NAME
        self._known: dict[str, str] = {}
        with contextlib.suppress(OSError, ValueError):
            known = json.loads(self._path.read_text("utf-8"))
            self._known = known if isinstance(known, dict) else {}
        settings = {f.name: repr(getattr(options, f.name)) for f in fields(options)}
        settings = {name: value for name, value in settings.items() if name not in NO_MATTER}
        read = [hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in inputs]
        self._common = json.dumps([__version__, settings, read or repr(bench)])

    def is_done(self, task: Task) -> bool:
        """Whether its results are there, and were made of the very same."""
        outs = [task.out] if task.events is None else [task.out, task.events]
        there = all(out.is_file() for out in outs)
        return there and self._known.get(self._name(task)) == self._digest(task)

    def note(self, task: Task) -> None:
        """It was made just now."""
        self._known[self._name(task)] = self._digest(task)

    def save(self) -> None:
        """Write what is known. A result that it does not know is made again."""
        with contextlib.suppress(OSError, JetRulerError):
            write_file(self._path, json.dumps(self._known, indent=1, sort_keys=True).encode())

    def _name(self, task: Task) -> str:
        names = [task.out] if task.events is None else [task.out, task.events]
        folder = self._path.parent
        return " ".join(
            name.relative_to(folder).as_posix() if name.is_relative_to(folder) else name.name
            for name in names
        )

    def _digest(self, task: Task) -> str:
        try:
            found = task.log.stat()
        except OSError:
            return ""
        text = json.dumps([self._common, str(task.log), found.st_size, found.st_mtime_ns])
        return hashlib.sha256(text.encode()).hexdigest()


#: Called after each log with the bytes done, the bytes in all, and what came of the log.
FleetProgress = Callable[[int, int, Outcome], None]


#: How many logs are named where many have the same to be said of them.
NAMED = 3


@dataclass(eq=False, repr=False)
class Fleet(Result):
    """What came of many logs. Paths are those of the logs.

    Attributes
    ----------
    done : list[Path], optional
        Logs that are converted.
    skipped : list[Path], optional
        Logs whose result was there already.
    failed : dict[Path, str], optional
        Why, by log.
    summary : Summary, optional
        One summary over all logs.
    types : dict[str, dict[str, list[Path]]], optional
        Types of the columns that pass through: logs by column and type.
    out : str, default ""
        The folder of the results.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> jr.convert_all(["roast.csv"], bench, "more", only=["bean"]).failed
    {}
    """

    done: list[Path] = field(default_factory=list)
    """Logs that are converted."""
    skipped: list[Path] = field(default_factory=list)
    """Logs whose result was there already."""
    failed: dict[Path, str] = field(default_factory=dict)
    """Why, by log."""
    summary: Summary = field(default_factory=lambda: Summary({}))
    """One summary over all logs."""
    types: dict[str, dict[str, list[Path]]] = field(default_factory=dict)
    """Types of the columns that pass through: logs by column and type."""
    out: str = ""
    """The folder of the results."""

    @property
    def headline(self) -> str:
        return "; ".join(self._outcome())

    def _outcome(self) -> list[str]:
        skipped = f", {len(self.skipped)} skipped: done already" if self.skipped else ""
        where = f" in {self.out}" if self.out else ""
        done = f"{many(self.summary.rows, 'row')} of {_logs(len(self.done))}{where}{skipped}"
        return [done, f"{_logs(len(self.failed))} failed"] if self.failed else [done]

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        outcomes = dict.fromkeys(self.done, "done") | dict.fromkeys(self.skipped, "skipped")
        outcomes |= self.failed
        return {"log": list(map(str, outcomes)), "outcome": list(outcomes.values())}

    @property
    def content(self) -> Content:
        """The summary over all logs, then what was skipped, what differs and what failed."""
        lines: list[Any] = [*self.summary.content] if self.done else []
        for name, kinds in self.mixed.items():
            types = ", ".join(f"{kind} in {_some(logs)}" for kind, logs in sorted(kinds.items()))
            lines.append(f"column {name!r} has not the same type everywhere: {types}")
        here = f"{Path.cwd()}/"
        failed = [f"  {error.replace(here, '')}" for error in self.failed.values()]
        done, *more = self._outcome()
        return [*lines, done, *(f"{line}:" for line in more), *failed]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "done": self.done,
            "skipped": self.skipped,
            "failed": self.failed,
            "mixed_types": self.mixed,
            "summary": self.summary,
        }

    @property
    def mixed(self) -> dict[str, dict[str, list[Path]]]:
        """Columns that pass through and have not the same type in all results: logs by type."""
        return {name: kinds for name, kinds in self.types.items() if len(kinds) > 1}

    def add(self, outcome: Outcome) -> None:
        """Count one log."""
        if outcome.summary is None:
            self.failed[outcome.task.log] = outcome.error
            return
        self.done.append(outcome.task.log)
        self.summary.merge(outcome.summary)
        for name, kind in outcome.summary.pass_through.items():
            self.types.setdefault(name, {}).setdefault(kind, []).append(outcome.task.log)


def _some(logs: list[Path]) -> str:
    """A few names; a number for very many."""
    if len(logs) > NAMED:
        return f"{len(logs)} logs"
    return ", ".join(log.name for log in logs)


def _logs(count: int) -> str:
    return many(count, "log")


@refuses
def convert_all(
    logs: Iterable[str | PathLike[str]] | str | PathLike[str],
    bench: BenchLike,
    out: str | PathLike[str],
    *,
    jobs: int | None = 1,
    cluster: str | None = None,
    resume: bool = False,
    inputs: Iterable[str | PathLike[str]] = (),
    events: str | PathLike[str] | None = None,
    progress: FleetProgress | None = None,
    **options: Any,
) -> Fleet:
    """Convert many logs through a bench, each as `convert` does it, into a folder.

    A log that fails does not stop the others.

    Parameters
    ----------
    logs : files, folders (all logs in them), patterns ("logs/**/*.parquet").
    bench : the channels to convert.
    out : folder of the results, which stand in it as the logs do; it is made if need be.
    jobs : processes; one a core if None. More than one need a script that starts under
        `if __name__ == "__main__":`.
    cluster : address of a Dask scheduler ("tcp://…") whose workers see the same files, or "local"
        for one with `jobs` workers on this machine.
    resume : whether to leave out logs whose result is there and was made of the same log, `inputs`,
        options and version.
    inputs : other files that the results depend on, such as the bench file.
    events : folder for the trips' events.
    progress : is called after each log.
    **options : the fields of `ConvertOptions`. Threads are for each log, and share the cores
        among the jobs if None; memory is for all jobs together (for each log on a cluster).

    Returns
    -------
    What was done, skipped and failed, with one summary over all logs.

    Raises
    ------
    LogError : where there is nothing to do, or nobody to do it.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> fleet = jr.convert_all(["roast.csv"], bench, "archive")
    >>> [log.name for log in fleet.done]
    ['roast.csv']
    """
    bench = bench_of(bench)
    if jobs is not None and jobs < 1:
        raise LogError(f"jobs: expected at least 1, found {jobs}")
    wanted = ConvertOptions(**options)
    chosen(bench, wanted.only)
    if events is not None and not bench.trips:
        raise LogError("events: expected a bench with trips, found none; add a [trip.<name>]")
    named = [logs] if isinstance(logs, str | PathLike) else list(logs)
    tasks = planned(named, out, out_kind=wanted.out_kind, events=events)
    fleet = Fleet(out=str(out))
    made = Manifest(out, wanted, bench, list(inputs))
    if resume:
        fleet.skipped = [task.log for task in tasks if made.is_done(task)]
        skipped = set(fleet.skipped)
        tasks = [task for task in tasks if task.log not in skipped]
    at_once = min(jobs or cores(), max(1, len(tasks)))
    away = cluster is not None  # whose cores and memory are its own
    each = replace(
        wanted,
        threads=wanted.threads or (1 if away else max(1, cores() // at_once)),
        memory=wanted.memory if away else wanted.memory / at_once,
    )
    sizes = {task.log: task.bytes for task in tasks}
    total, read = sum(sizes.values()), 0
    outcomes = {}
    with _working(tasks, Work(bench, each), at_once, cluster) as found, saving(made):
        for outcome in found:
            outcomes[outcome.task.log] = outcome
            if outcome.summary is not None:
                made.note(outcome.task)
            read += sizes[outcome.task.log]
            if progress:
                progress(read, total, outcome)
    for task in tasks:  # in the order of their names, whoever was first
        fleet.add(outcomes[task.log])
    return fleet


@contextmanager
def saving(made: Manifest) -> Iterator[None]:
    """Write down what was made, also where the run is stopped."""
    try:
        yield
    finally:
        made.save()


@contextmanager
def _working(
    tasks: list[Task], work: Work, jobs: int, cluster: str | None
) -> Iterator[Iterable[Outcome]]:
    if cluster is not None:
        from .workers import Cluster

        with Cluster(cluster, jobs) as there:
            yield there.outcomes(tasks, work)
    elif jobs > 1:
        from .workers import Jobs

        with Jobs(jobs, work) as processes:
            yield processes.outcomes(tasks)
    else:
        yield (attempt(task, work) for task in tasks)
