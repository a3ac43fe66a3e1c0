"""A report, from a bench and what is at hand to a file."""

from __future__ import annotations

import hashlib
import re
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from os import PathLike
from pathlib import Path
from typing import Any

import numpy as np

from .. import __version__
from ..core.bench.bench import Bench, BenchLike, LogFormat, bench_of
from ..core.bench.derived import DerivedChannel, in_order
from ..core.bench.trips import TripEvent
from ..core.calibrate.comparison import PairsError
from ..core.calibrate.marks import Marks
from ..core.error_types import JetRulerError
from ..core.result import refuses
from ..core.ruler.reading import Reading
from ..core.ruler.units import many, nearest, number
from ..core.uncertainty.what_if import has_parameter, what_if
from ..files import reject_used, write_file
from ..logs.check_log import CheckPass, TripsPass, event_row
from ..logs.pairs import PairsPass, SeriesPass, compare_pairs, pairs_of
from ..samples.passes import Progress, SampleBatch, columns_of, walk
from .content import FORMS, Form, ReportRequest, content, written

#: Trips that turn more often than this are cut off in the table, and that is said.
MOST_TURNS = 40


@refuses
def report(
    bench: BenchLike,
    out: str | PathLike[str],
    *,
    channels: str | Sequence[str] = (),
    at: float | Sequence[float] = (),
    log: str | PathLike[str] | None = None,
    marks: Mapping[str, Any] | None = None,
    changes: Mapping[str, str] | None = None,
    compared: Sequence[tuple[str, str]] = (),
    form: Form | None = None,
    log_format: LogFormat | None = None,
    bench_file: str | PathLike[str] | None = None,
    dated: bool = False,
    progress: Progress | None = None,
) -> list[Path]:
    """Write a report of a bench.

    Parameters
    ----------
    bench : Bench
        What it is about.
    out : path
        Where it goes: `.html` (one page, all in it), `.md` or `.tex` (pictures in a folder beside).
    channels : Sequence[str]
        Names of those that it is about; all if left out.
    at : Sequence[float]
        Raw values for worked solutions and budgets; the quarters of the range if left out.
    log : path, optional
        A log, for an overview, its findings and its trips.
    marks : Mapping[str, Marks], optional
        Marks of a calibration, by channel.
    changes : Mapping[str, str], optional
        Better parts, as for `what_if`.
    compared : Sequence[tuple[str, str]]
        Pairs of channels (or a channel and a column of the log) that are compared in the log.
    form : {"html", "md", "tex"}, optional
        What it is written in; by the name of `out` if left out.
    log_format : LogFormat, optional
        How the log is written; as the bench says, and found out, if left out.
    bench_file : path, optional
        The file that the bench was loaded from: its name and its digest are put at the end.
    dated : bool, default False
        Whether today's date is put there too; the same report is then another one every day.
    progress : callable, optional
        Called after each batch of the log.

    Returns
    -------
    list[Path]
        The files written, the report first. Each appears whole or not at all.

    Raises
    ------
    JetRulerError
        For a channel that the bench has not, a log that cannot be read, a what-if that names no
        parameter: before anything is written.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> [path.name for path in jr.report(bench, "damper.html", channels=["damper"])]
    ['damper.html']
    """
    bench = bench_of(bench)
    channels = (channels,) if isinstance(channels, str) else channels
    at = [at] if isinstance(at, int | float) else at
    path = Path(out).expanduser()
    chosen = form or _form(path)
    if compared and log is None:
        raise JetRulerError(
            "compared: expected two channels and a log that they are compared in, found no log"
        )
    for name in (*channels, *(marks or {}), *(first for first, _ in compared)):
        if name not in bench:
            right = nearest(name, bench)
            raise JetRulerError(f"expected a channel of the bench, found {name!r}: {right}")
    asked = in_order(bench[name] for name in (list(channels) or bench))
    computed = [one.name for one in asked if isinstance(one, DerivedChannel)]
    names = [one.name for one in asked if one.name not in computed]
    for one in at:
        _check_at(bench, names, one)
    for parameter, value in (changes or {}).items():
        what_if_possible(bench, names, parameter, value)
    known = {name: Marks.of(given) for name, given in (marks or {}).items()}
    wanted = ReportRequest(
        bench, names, at, computed=computed, marks=known, changes=dict(changes or {})
    )
    wanted = replace(wanted, made_from=_made_from(bench_file, log, known, dated))
    if log is not None:
        wanted = _with_log(wanted, log, compared, log_format, progress)
    title = bench.title or path.stem
    # LaTeX takes no other signs in the name of a file.
    stem = re.sub(r"[^A-Za-z0-9.-]", "-", path.stem) if chosen == "tex" else path.stem
    folder = path.parent / f"{stem}-figures"
    text, files = written(title, list(content(wanted)), chosen, folder.name)
    made = [path]
    for file in (path, *(folder / name for name in files)):
        reject_used(file)
    if files:
        made += _beside(folder, files)
    write_file(path, text.encode())
    return made


def _made_from(
    bench_file: str | PathLike[str] | None,
    log: str | PathLike[str] | None,
    marks: Mapping[str, Marks],
    dated: bool,
) -> list[tuple[str, str]]:
    """What the report was made from, and by what."""
    rows = []
    if bench_file is not None:
        digest = hashlib.sha256(Path(bench_file).read_bytes()).hexdigest()
        rows.append(("bench file", f"{Path(bench_file).name} (SHA-256 {digest[:16]}…)"))
    if log is not None:
        rows.append(("log", Path(log).name))
    rows += [(f"marks of {name}", many(len(one.raw), "mark")) for name, one in marks.items()]
    rows.append(("made by", f"Jet Ruler {__version__}"))
    return rows + ([("date", date.today().isoformat())] if dated else [])


def _check_at(bench: Bench, names: Sequence[str], at: float) -> None:
    """Raises `JetRulerError` for a raw value that no channel gives."""
    edges = [(name, bench[name].ruler.edge) for name in names]
    known = [(name, edge) for name, edge in edges if edge is not None]
    if known and not any(edge.lowest <= at <= edge.highest for _, edge in known):
        name, edge = known[0]
        expected = f"{number(edge.lowest)} to {number(edge.highest)}"
        raise JetRulerError(
            f"at: expected a raw value of {name}, from {expected}, found {number(at)}"
        )


def what_if_possible(bench: Bench, names: Sequence[str], parameter: str, value: str) -> None:
    """Raises `ParameterError` where no channel has a parameter, or the value cannot be its."""
    having = [name for name in names if has_parameter(bench[name], parameter)]
    what_if(bench[(having or names)[0]], 0.0, {parameter: value})


def _form(path: Path) -> Form:
    for form in FORMS:
        if path.suffix.lower() == f".{form}":
            return form
    raise JetRulerError(f"{path}: expected .html, .md or .tex, found another ending")


def _beside(folder: Path, files: Mapping[str, bytes]) -> list[Path]:
    """The pictures, in a folder that appears with all of them."""
    part = folder.with_name(f".{folder.name}.part")
    shutil.rmtree(part, ignore_errors=True)
    try:
        part.mkdir()
        for name, data in files.items():
            (part / name).write_bytes(data)
        if folder.is_dir():
            for name in files:
                (part / name).replace(folder / name)
        else:
            part.replace(folder)
    except OSError as error:
        raise JetRulerError(f"{folder}: cannot be written: {error.strerror}") from None
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return [folder / name for name in files]


def _with_log(
    wanted: ReportRequest,
    log: str | PathLike[str],
    compared: Sequence[tuple[str, str]],
    log_format: LogFormat | None,
    progress: Progress | None,
) -> ReportRequest:
    """What a log shows of some channels, read once."""
    bench, names = wanted.bench, wanted.channels
    some = Bench(
        bench.title,
        {name: bench[name] for name in names},
        {n: t for n, t in bench.trips.items() if set(t.channels) <= set(names)},
    )
    checked = CheckPass(some)
    series = SeriesPass([bench[name] for name in (*names, *wanted.computed)])
    turns: list[list[str]] = []

    def turned(batch: SampleBatch, event: TripEvent, readings: Mapping[str, Reading]) -> None:
        time = number(float(np.round(batch.times[event.sample], 3)))
        turns.append([time, *event_row(bench, event, readings)])

    trips = [TripsPass(some, turned)] if some.trips else []
    both = [(bench[a], bench.every_channel.get(b, b)) for a, b in compared]
    pairs = [PairsPass(one) for one in both]
    walk(
        log,
        series,
        checked,
        *trips,
        *pairs,
        form=log_format or bench.log,
        wanted=columns_of(bench),
        progress=progress,
    )
    if len(turns) > MOST_TURNS:
        left = len(turns) - MOST_TURNS
        turns = [*turns[:MOST_TURNS], ["…", "", "", f"{left} more are not shown"]]
    try:
        comparisons = [
            compare_pairs(bench, first, name, pairs_of(one.found(), first, other))
            for (first, other), one, (_, name) in zip(both, pairs, compared, strict=True)
        ]
    except PairsError as error:
        raise JetRulerError(f"{log}: {error}") from None
    return replace(
        wanted,
        log=Path(log).name,
        look=checked.look(),
        series=series.found(),
        turns=turns,
        findings=checked.found(),
        comparisons=comparisons,
    )
