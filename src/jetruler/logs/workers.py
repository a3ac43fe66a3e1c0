"""Which logs there are, where the result of each goes, and who converts them: processes, or a Dask
cluster."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import socket
import sys
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess
from os import PathLike
from pathlib import Path
from types import FrameType
from typing import Any
from urllib.parse import urlsplit

from ..core.bench.bench import Bench
from ..core.error_types import JetRulerError, LogError
from ..files import one_name, same_file
from ..samples.source import PACKED, SUFFIXES, kind_of
from .conversion import ConvertOptions
from .convert_log import convert
from .summary import Summary

_WILD = "*?["


@dataclass(frozen=True)
class Task:
    """One log, its result, and where its events go, if they are needed."""

    log: Path
    out: Path
    events: Path | None = None

    @property
    def bytes(self) -> int:
        """How large the log is; 0 if it has gone."""
        try:
            return self.log.stat().st_size
        except OSError:
            return 0


def is_many(log: str | PathLike[str], out: str | PathLike[str]) -> bool:
    """Whether a log's name represents many (a folder, a pattern), or its output for a folder."""
    if str(log) == "-":
        return False
    pattern = _is_pattern(str(log)) and not Path(log).exists()
    return pattern or Path(log).is_dir() or (str(out) != "-" and _is_folder(out))


def planned(
    logs: Iterable[str | PathLike[str]],
    out: str | PathLike[str],
    *,
    out_kind: str | None = None,
    events: str | PathLike[str] | None = None,
) -> list[Task]:
    """A task a log, sorted by name. logs: files, folders, and patterns with * and **.

    out: a folder, which mirrors the logs' folders below the one that they have in common.
    Raises `LogError` where there is no log, where two results would have the same name, and for
    an output that is a file.
    """
    for folder in (out, events):
        if folder is not None and (str(folder) == "-" or Path(folder).is_file()):
            raise LogError(
                f"{folder}: expected a folder for the results of many logs, found a file"
            )
        if folder is not None and kind_of(folder) and not _is_folder(folder):
            raise LogError(
                f"{folder}: expected a folder for the results of many logs, found the name of "
                f"a file; {folder}/ makes it a folder's"
            )
    found: dict[str, Path] = {}
    bases: list[Path] = []
    for given in logs:
        files, base = _found(str(given), Path(out).absolute())
        found = {one_name(log): log for log in files} | found
        bases.append(base)
    if not found:
        raise LogError("expected files, folders or a pattern, found none")
    try:
        top = Path(os.path.commonpath(bases))
    except ValueError:  # of Windows
        tops = ", ".join(sorted({str(base) for base in bases}))
        raise LogError(
            f"{tops}: these are on different drives, so their results have no common folder; "
            "convert the logs of each drive separately"
        ) from None
    tasks = []
    taken: dict[str, Path] = {}
    for log in sorted(found.values()):
        place = log.relative_to(top)
        result = Path(out).absolute() / _renamed(place, out_kind)
        if same_file(result, log):
            raise LogError(f"{log}: expected another folder for the results, found that of the log")
        if (name := one_name(result)) in taken:
            raise LogError(f"{log}: its result has the same name as that of {taken[name]}")
        taken[name] = log
        message = None if events is None else Path(events).absolute() / _renamed(place, "csv")
        tasks.append(Task(log, result, message))
    return tasks


def _found(given: str, out: Path) -> tuple[list[Path], Path]:
    """The logs that a name represents, and the folder that their tree starts from."""
    path = Path(given).absolute()
    if path.is_dir():
        if same_file(path, out):
            raise LogError(
                f"{given}: expected another folder for the results, found that of the logs"
            )
        files = [p for p in sorted(path.rglob("*")) if _is_log(p, path) and not _below(out, p)]
        if not files:
            ends = ", ".join(SUFFIXES)
            raise LogError(
                f"{given}: expected logs in this folder (names that end in {ends}), found none"
            )
        return files, path
    if not path.exists() and _is_pattern(given):
        base = _fixed_part(given)
        names = base.glob(str(path.relative_to(base)))
        files = [p for p in sorted(names) if p.is_file() and not _below(out, p)]
        if not files:
            raise LogError(f"{given}: expected a pattern that names files, found none of that name")
        return files, base
    if not path.exists():
        raise LogError(f"{given}: expected a log, found no such file")
    return [path], path.parent


def _below(folder: Path, log: Path) -> bool:
    return any(one_name(parent) == one_name(folder) for parent in log.parents)


def _is_pattern(name: str) -> bool:
    return any(sign in name for sign in _WILD)


def _is_folder(out: str | PathLike[str]) -> bool:
    return str(out).endswith(("/", os.sep)) or Path(out).is_dir()


def _is_log(path: Path, top: Path) -> bool:
    hidden = any(part.startswith(".") for part in path.relative_to(top).parts)
    return not hidden and kind_of(path) is not None and path.is_file()


def _fixed_part(pattern: str) -> Path:
    """The folder before the first wildcard."""
    parts = Path(pattern).absolute().parts
    wild = next(i for i, part in enumerate(parts) if _is_pattern(part))
    return Path(*parts[:wild])


def _renamed(place: Path, kind: str | None) -> Path:
    """A result's name: the log's, or with the ending of another format."""
    if kind is None or kind_of(place) == kind:
        return place
    name, packing = place.name, ""
    for end in PACKED:
        if name.lower().endswith(end):
            name, packing = name[: -len(end)], end
    known = Path(name).suffix.lower() in SUFFIXES
    stem = Path(name).stem if known else name
    return place.with_name(f"{stem}.{kind}{'' if kind == 'parquet' else packing}")


@dataclass(frozen=True)
class Outcome:
    """A task that is done, or the sentence that says why it could not be."""

    task: Task
    summary: Summary | None = None
    error: str = ""


@dataclass(frozen=True)
class Work:
    """What is the same for all logs: the bench, and how `convert` is to be called."""

    bench: Bench
    options: ConvertOptions


def attempt(task: Task, work: Work) -> Outcome:
    """Convert one log. Whatever goes wrong with it is told, not raised: others are waiting."""
    try:
        task.out.parent.mkdir(parents=True, exist_ok=True)
        if task.events is not None:
            task.events.parent.mkdir(parents=True, exist_ok=True)
        found = convert(task.log, work.bench, task.out, events=task.events, **vars(work.options))
        return Outcome(task, found.folded())
    except JetRulerError as error:
        return Outcome(task, error=_with_name(str(error), task))
    except OSError as error:
        return Outcome(task, error=f"{task.out}: cannot be written: {error.strerror or error}")
    except Exception as error:
        message = f"{type(error).__name__}: {error}".splitlines()[0]
        return Outcome(task, error=f"{task.log}: {message}")


def _with_name(message: str, task: Task) -> str:
    known = any(str(path) in message for path in (task.log, task.out, task.events))
    return message if known else f"{task.log}: {message}"


def sweep(task: Task) -> None:
    """Remove what a worker that died has left half-written."""
    for out in (task.out, task.events):
        if out is not None:
            final = out.resolve()
            for part in final.parent.glob(f".{final.name}.*.part"):
                with contextlib.suppress(OSError):
                    part.unlink()


#: A log at which this many workers died is not tried again.
MOST_DEATHS = 2


@dataclass(eq=False)
class _Worker:
    """A process, the pipe to it, and the task it is at."""

    process: SpawnProcess
    pipe: Connection
    task: Task | None = None


class Jobs:
    """Converts tasks in some processes at once. A context manager that ends them.

    A worker that dies (out of memory, say) is replaced, and its log is tried once more.
    """

    def __init__(self, jobs: int, work: Work) -> None:
        self.jobs, self.work = jobs, work
        # Not forked: PyArrow's threads would not come along, though their locks do.
        self._processes = multiprocessing.get_context("spawn")
        self._workers: list[_Worker] = []

    def __enter__(self) -> Jobs:
        return self

    def __exit__(self, *error: object) -> None:
        for worker in self._workers:
            worker.pipe.close()
            if worker.task is not None:
                worker.process.terminate()
        for worker in self._workers:
            worker.process.join(timeout=10)
            if worker.process.is_alive():
                worker.process.kill()
                worker.process.join()
            if worker.task is not None:
                sweep(worker.task)

    def outcomes(self, tasks: Sequence[Task]) -> Iterator[Outcome]:
        """What came of each task, as each is done."""
        waiting = deque(tasks)
        deaths: dict[Task, int] = {}
        for _ in range(min(self.jobs, len(tasks))):
            self._workers.append(self._started())
        while waiting or any(worker.task for worker in self._workers):
            for worker in self._workers:
                if worker.task is None and waiting:
                    worker.task = waiting.popleft()
                    with contextlib.suppress(OSError):  # it has died: found out below
                        worker.pipe.send(worker.task)
            busy = {worker.pipe: worker for worker in self._workers if worker.task}
            for pipe in wait(list(busy)):
                worker = busy[pipe]  # type: ignore[index]
                task, worker.task = worker.task, None
                assert task is not None
                try:
                    yield worker.pipe.recv()
                except (EOFError, OSError):
                    sweep(task)
                    deaths[task] = deaths.get(task, 0) + 1
                    why = self._buried(worker)
                    if deaths[task] < MOST_DEATHS:
                        waiting.append(task)
                    else:
                        error = f"{task.log}: the worker at this log died, twice ({why})"
                        yield Outcome(task, error=error)

    def _started(self) -> _Worker:
        here, there = self._processes.Pipe()
        process = self._processes.Process(target=_serve, args=(there, self.work), daemon=True)
        process.start()
        there.close()
        return _Worker(process, here)

    def _buried(self, worker: _Worker) -> str:
        """Replace a worker that died; how it died."""
        worker.pipe.close()
        worker.process.join()
        code = worker.process.exitcode or 0
        self._workers[self._workers.index(worker)] = self._started()
        if code < 0:
            return f"signal {signal.Signals(-code).name}"
        return f"exit code {code}"


def _serve(pipe: Connection, work: Work) -> None:
    """A worker's life: tasks in, outcomes out, until the pipe closes."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for whoever started it
    signal.signal(signal.SIGTERM, _end)  # so that nothing half-written is left
    while True:
        try:
            task = pipe.recv()
        except (EOFError, OSError):
            return
        with contextlib.suppress(BrokenPipeError):
            pipe.send(attempt(task, work))


def _end(number: int, frame: FrameType | None) -> None:
    sys.exit(128 + number)


#: Seconds until an address that does not answer is given up.
PATIENCE = 8

#: Bytes.
LONGEST_GREETING = 2**20


class Cluster:
    """A client of a scheduler. A context manager.

    address: "tcp://host:port", or "local" for `workers` processes on this machine. Raises
    `LogError` where nobody answers within `PATIENCE` seconds, or Dask is not installed.
    """

    def __init__(self, address: str, workers: int) -> None:
        self.address = address
        try:
            import distributed
        except ImportError:
            raise LogError(
                "a cluster needs Dask, which is not installed: pip install 'jet-ruler[dask]'"
            ) from None
        self._distributed: Any = distributed
        self._stack = ExitStack()
        self._tasks: list[Task] = []
        self._client = self._local(workers) if address == "local" else self._remote()

    def _local(self, workers: int) -> Any:
        local = self._stack.enter_context(
            self._distributed.LocalCluster(
                n_workers=workers,
                threads_per_worker=1,
                processes=True,
                dashboard_address="127.0.0.1:0",
            )
        )
        return self._stack.enter_context(self._distributed.Client(local))

    def _remote(self) -> Any:
        place = urlsplit(self.address)
        try:
            host, port = place.hostname, place.port
        except ValueError:
            host, port = None, None
        if place.scheme not in ("tcp", "tls") or not host or not port:
            raise LogError(f"cluster: expected tcp://host:port or local, found {self.address!r}")
        try:
            _answers(host, port, greets=place.scheme == "tcp")
            client = self._distributed.Client(self.address, timeout=PATIENCE / 2)
        except Exception as error:  # what is no scheduler may answer anything
            why = getattr(error, "strerror", None) or "the program there is not a Dask scheduler"
            raise LogError(
                f"cluster: expected a scheduler at {self.address}, found none: {why}"
            ) from None
        self._stack.enter_context(client)
        if not client.scheduler_info(n_workers=-1)["workers"]:
            self._stack.close()
            raise LogError(f"cluster: expected workers at {self.address}, found none; start some")
        return client

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, *error: object) -> None:
        self._stack.close()
        for task in self._tasks:  # a worker that was given up for dead may have gone on until now
            sweep(task)

    def outcomes(self, tasks: Sequence[Task], work: Work) -> Iterator[Outcome]:
        """What came of each task, as each is done. A worker that dies is replaced by another."""
        self._tasks = list(tasks)
        futures = {self._client.submit(attempt, task, work, pure=False): task for task in tasks}
        for future in self._distributed.as_completed(futures):
            task = futures[future]
            try:
                yield future.result()
            except Exception as error:
                sweep(task)
                yield Outcome(task, error=f"{task.log}: {self._why(error)}")

    def _why(self, error: Exception) -> str:
        if isinstance(error, self._distributed.KilledWorker):
            return "the workers at this log died, again and again"
        message = str(error).splitlines() or [type(error).__name__]
        return f"the cluster could not convert it: {message[0]}"


def _answers(host: str, port: int, greets: bool) -> None:
    """Raise `OSError` where no scheduler answers: Dask itself would wait for a minute for one that
    is silent. A scheduler greets whoever connects, with a short message behind its length."""
    with socket.create_connection((host, port), timeout=PATIENCE / 2) as there:
        if greets and not 0 < int.from_bytes(there.recv(8), "little") < LONGEST_GREETING:
            raise OSError(None, "the program there is not a Dask scheduler")
