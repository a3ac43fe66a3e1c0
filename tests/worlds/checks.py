"""What each command must say of a world: held against the world's own truth, by NumPy.

A check yields sentences about what is wrong.
"""

from __future__ import annotations

import csv
import io
import json
import math
import re
import warnings
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

import matplotlib.style
import numpy as np
import pandas as pd
from matplotlib.figure import Figure

import jetruler as jr
from jetruler.show.ticks import true_ticks
from tests.helpers.command import Done, called
from tests.helpers.overlapping_labels import overlaps
from tests.helpers.retyped import check_line

from .world import Made, World

Check = Callable[[World, Path], Iterator[str]]

#: What no output may hold.
NEVER = re.compile(
    r"Traceback|in Jet Ruler itself|RuntimeWarning"
    r"|(?<![.\d])1 (channels|rows|samples|readings|columns|counts|findings|gaps)\b"
)
NO_VALUE = re.compile(r"(?<![\w\"'])(nan|None|inf)(?![\w\"'])")


def run(home: Path, *args: str, codes: tuple[int, ...] = (0,)) -> tuple[Done, list[str]]:
    """Call the command; what must never be in its output."""
    with warnings.catch_warnings(record=True) as warned:
        warnings.simplefilter("always", RuntimeWarning)
        done = called(*args, home=home)
    bad = []
    said = done.stdout + done.stderr
    if done.returncode not in codes:
        bad.append(f"{' '.join(args)}: exit code {done.returncode}: {done.stderr.strip()[-300:]}")
    if found := NEVER.search(said):
        bad.append(f"{' '.join(args)}: {said[max(0, found.start() - 60) : found.end() + 60]!r}")
    bad += [f"{args[0]}: {w.message}" for w in warned if issubclass(w.category, RuntimeWarning)]
    return done, bad


def unpack(world: World, home: Path) -> None:
    """Write its two files."""
    (home / "bench.toml").write_text(world.bench, encoding="utf-8")
    (home / "log.txt").write_bytes(world.log.encode(world.encoding))


def _close(a: Any, b: Any, rel: float = 1e-9, off: float = 0.0) -> bool:
    if a is None or b is None or (isinstance(b, float) and math.isnan(b)):
        return a is None or (isinstance(a, float) and math.isnan(a))
    return bool(abs(float(a) - float(b)) <= off + rel * max(abs(float(a)), abs(float(b))))


# look ----------------------------------------------------------------------------------------


def look(world: World, home: Path) -> Iterator[str]:
    """Statistics and findings, with the bench."""
    done, bad = run(home, "look", "log.txt", "-b", "bench.toml", "--json")
    yield from bad
    if done.returncode:
        return
    data = json.loads(done.stdout)
    for c in world.channels:
        yield from _statistics(c, data["columns"][c.name])
    yield from _findings(world, data["findings"]["findings"])
    if world.interval and not _close((data["time"] or {}).get("interval"), world.interval):
        yield f"a sample each {world.interval} s, look says {data['time']}"
    done, bad = run(home, "look", "log.txt", "-b", "bench.toml")
    yield from bad
    if found := NO_VALUE.search(done.stdout):
        yield f"look says {done.stdout[max(0, found.start() - 40) : found.end() + 40]!r}"


def look_without_bench(world: World, home: Path) -> Iterator[str]:
    """Statistics alone: nobody has said what the columns are."""
    (home / "bench.toml").unlink()
    done, bad = run(home, "look", "log.txt", "--json")
    unpack(world, home)
    yield from bad
    if done.returncode:
        return
    columns = json.loads(done.stdout)["columns"]
    for c in world.channels:
        if c.column == 1 and _like_a_clock(c.signal.raw[:256]):
            continue  # nobody can tell it from a time
        name = next((n for n, v in columns.items() if v["column"] == str(c.column)), None)
        if len(world.channels) == len(columns) == 1:
            name = next(iter(columns))  # a word in front of it is its name
        if name is None:
            yield f"look without a bench: column {c.column!r} of {list(columns)}"
        elif c.signal.fault not in ("off-scale", "glued", "floating", "spike") and not _few_apart(
            c
        ):
            yield from _statistics(c, columns[name], bench=False)


def _few_apart(c: Made) -> bool:
    """Whether a broken wire shows in so few samples that they are left out as apart."""
    at_ends = np.isin(c.signal.raw, (c.edge.lowest, c.edge.highest))
    return c.signal.fault in ("open", "short") and 0 < float(np.mean(at_ends)) <= 0.01


def _like_a_clock(raw: Any) -> bool:
    return bool(np.mean(np.diff(raw) >= 0) > 0.8)


def _statistics(c: Made, found: dict[str, Any], bench: bool = True) -> Iterator[str]:
    valid = c.signal.valid
    exact = {
        "smallest": valid.min(),
        "largest": valid.max(),
        "mean": valid.mean(),
        "standard_deviation": float(np.std(valid, ddof=1)),
        "median": float(np.median(valid)),
        "distinct": np.unique(valid).size,
    }
    # NumPy's are of floats, which know large volts to fewer digits than the log has.
    off = 1e-7 * c.edge.step + 2 * float(np.spacing(np.abs(valid).max()))
    for name, value in exact.items():
        if not _close(found[name], value, 1e-9, off):
            yield f"{c.name}: {name} is {found[name]}, NumPy's {value}"
    if bench:
        out = int(
            np.count_nonzero((c.signal.raw < c.edge.lowest) | (c.signal.raw > c.edge.highest))
        )
        said = found["off_scale"]["samples"] if found["off_scale"] else 0
        if said != out:
            yield f"{c.name}: {said} off the scale, {out} are"
        gone = int(np.count_nonzero(np.isnan(c.signal.raw)))
        if found["missing"] != gone:
            yield f"{c.name}: {found['missing']} missing, {gone} are"
    s = c.signal
    slow = s.move in ("rest", "ramp", "wave") and s.noises == "white" and not s.fault
    if slow and valid.size >= 600 and s.noise > 1.2 * c.edge.step:
        room = 0.1 + 4 / math.sqrt(valid.size)
        if not _close(found["noise"], s.noise, room):
            yield f"{c.name}: noise is {found['noise']}, true {s.noise}"


#: What `look` says of each fault; {line}: of the first bad row; and what may follow from it.
SAID = {
    "open": r"is on its high rail .*line {line}\b",
    "short": r"is on its low rail .*line {line}\b",
    "dropout": r"{many} of \d+ samples are missing",
    "spike": r"isolated spikes? of one sample, the first in line {line}\b",
    "glued": r"1 sample beyond the range .*line {line}\b",
    "off-scale": r"1 sample beyond the range .*line {line}\b",
    "saturation": r"is on its high rail",
    "stuck": r"stuck at .*from line ({line}|{before})\b",
    "floating": r"wanders without a pattern",
    "shifted": r"left-scaled to 16 bits",
}
_NOTHING = r"$^"
FOLLOWS = dict.fromkeys(SAID, _NOTHING) | {
    "open": r"limit of|no working sensor",
    "short": r"limit of|no working sensor",
    "spike": r"limit of|no working sensor",
    "saturation": r"limit of|no working sensor|stuck at",
    "floating": r"limit of|rail|spike|no working",
}


def _findings(world: World, findings: list[dict[str, Any]]) -> Iterator[str]:
    names = {c.name for c in world.channels}
    for f in findings:
        if f["severity"] != "note" and f["where"] not in names:
            yield f"{f['where']} is accused: {f['what']}"
    for c in world.channels:
        fault, rows = c.signal.fault, c.signal.rows
        own = [f for f in findings if f["where"] == c.name]
        expected = follows = _NOTHING
        if fault:
            line = world.first_line + (rows[0] if rows else 0)
            expected = SAID[fault].format(
                line=line, before="|".join(str(line - i) for i in range(1, 6)), many=len(rows)
            )
            follows = FOLLOWS[fault]
            if not any(re.search(expected, f["what"]) for f in own) and not _at_a_stop(c):
                yield f"{c.name}: {fault} at line {line} is not found"
        for f in own:
            known = re.search(expected, f["what"]) or re.search(follows, f["what"])
            outlier = "isolated spike" in f["what"] and _has_outliers(c)
            if f["severity"] != "note" and not known and not outlier:
                yield f"{c.name} is accused: {f['severity']}: {f['what']}"


def _at_a_stop(c: Made) -> bool:
    """Whether what moves froze at an end of its travel, where a stop may hold it."""
    frozen, s = c.signal.raw[c.signal.rows[-1:]], c.signal
    at_end = bool(np.isin(frozen, (s.valid.min(), s.valid.max())).any())
    return s.fault == "stuck" and s.move != "rest" and at_end


def _goes_beyond(c: Made) -> bool:
    """Whether more than one sample in a hundred is more than two steps beyond the chain's ends."""
    low, high = c.chain.ends
    x, room = c.signal.valid, 2 * c.edge.step
    return bool(np.mean((x < low - room) | (x > high + room)) > 0.01)


def _has_outliers(c: Made) -> bool:
    """Whether a noise of heavy tails has put a sample more than five deviations off, as one in 1200
    is: alone in a stretch that moves, it is a spike."""
    x = c.signal.raw
    off = np.abs(x[1:-1] - (x[:-2] + x[2:]) / 2)
    return c.signal.noises == "heavy" and bool(np.nanmax(off) > 5 * c.signal.noise)


# check ---------------------------------------------------------------------------------------


def check(world: World, home: Path) -> Iterator[str]:
    """Nothing is found in a sound bench, nor beside its log."""
    for more in ((), ("--log", "log.txt")):
        done, bad = run(home, "check", "-b", "bench.toml", *more, "--json", codes=(0, 1))
        yield from bad
        if world.sound and done.returncode in (0, 1):
            outliers = {c.name for c in world.channels if _has_outliers(c)}
            beyond = tuple(f"channel.{c.name}." for c in world.channels if _goes_beyond(c))
            # What goes in steps may stop short of a mark as a knob does, and is told so.
            steps = tuple(f"channel.{c.name}." for c in world.channels if c.signal.move == "steps")
            for f in json.loads(done.stdout)["findings"]:
                if "isolated spike" in f["what"] and f["where"] in outliers:
                    continue
                if f["rule"] == "unreached-marks" and f["where"].startswith(steps):
                    continue
                if f["rule"] == "clamp-hides" and f["where"].startswith(beyond):
                    continue
                # A platinum sensor in a divider uses few counts, and is told so.
                if f["severity"] != "note" and f["rule"] != "few-counts":
                    yield f"check {' '.join(more)} accuses {f['where']}: {f['rule']}: {f['what']}"


# new -----------------------------------------------------------------------------------------


def new(world: World, home: Path) -> Iterator[str]:
    """A bench written from the log reads the log, and nothing is found in it."""
    (home / "new.toml").unlink(missing_ok=True)
    done, bad = run(home, "new", "--from", "log.txt", "new.toml")
    yield from bad
    if done.returncode:
        return
    done, bad = run(home, "convert", "log.txt", "-b", "new.toml", "-o", "new.csv")
    yield from bad
    done, bad = run(home, "check", "-b", "new.toml", "--json", codes=(0, 1))
    yield from bad
    if done.returncode in (0, 1):
        for f in json.loads(done.stdout)["findings"]:
            if f["severity"] != "note":
                yield f"new: {f['where']}: {f['what']}"


# convert, live, stream, frames ---------------------------------------------------------------


def convert(world: World, home: Path) -> Iterator[str]:
    """Every value is that of the formulas."""
    cells, bad = _converted(world, home)
    yield from bad
    for c in world.channels if cells else ():
        yield from _values(c, cells[c.name])


def _converted(world: World, home: Path) -> tuple[dict[str, list[str]], list[str]]:
    """The cells of each channel; of lines of any form, as objects with names. Several checks in
    turn ask for them."""
    if (world.seed, home) not in _LATEST:
        _LATEST.clear()
        _LATEST[world.seed, home] = _convert(world, home)
    return _LATEST[world.seed, home]


_LATEST: dict[tuple[int, Path], tuple[dict[str, list[str]], list[str]]] = {}


def _convert(world: World, home: Path) -> tuple[dict[str, list[str]], list[str]]:
    done, bad = run(home, "convert", "log.txt", "-b", "bench.toml", "-o", "out.jsonl")
    if done.returncode:
        return {}, bad
    rows = [json.loads(line) for line in (home / "out.jsonl").read_text("utf-8").splitlines()]
    if len(rows) != world.channels[0].signal.raw.size:
        return {}, [*bad, f"convert wrote {len(rows)} rows of {world.channels[0].signal.raw.size}"]
    bench = jr.load_bench(home / "bench.toml")
    names = {c.name: bench[c.name].output_column for c in world.channels}
    return {name: [row[column] for row in rows] for name, column in names.items()}, bad


def _values(c: Made, found: list[Any]) -> Iterator[str]:
    truth = c.value(c.signal.raw)
    told = c.shown(c.signal.raw)
    for i, (cell, value) in enumerate(zip(found, truth, strict=True)):
        if value != value:
            if cell is not None:
                yield f"{c.name}: row {i}, raw {c.signal.raw[i]} has the value {cell}"
                return
        elif told[i] and c.chain.labels:
            label = c.chain.labels[int(value)]
            if cell != label:
                yield f"{c.name}: row {i}, raw {c.signal.raw[i]}: {cell}, not {label}"
                return
        elif told[i] and not _close(cell, value, 1e-9, 0.5000001 * 10.0**-c.decimals):
            yield f"{c.name}: row {i}, raw {c.signal.raw[i]}: {cell}, not {value}"
            return


def live(world: World, home: Path) -> Iterator[str]:
    """The rows of `live` are those of `convert`."""
    cells, bad = _converted(world, home)
    done, more = run(home, "live", "--source", "log.txt", "-b", "bench.toml")
    yield from [*bad, *more]
    if done.returncode or not cells:
        return
    rows = list(csv.DictReader(io.StringIO(done.stdout)))
    bench = jr.load_bench(home / "bench.toml")
    for name, expected in cells.items():
        found = [row[bench[name].output_column] for row in rows]
        yield from _same(f"live: {name}", found, expected)
    if world.decisions is not None and world.sound:
        fan = bench.drives["fan"].output_column
        yield from _decided(world, [r["hot"] for r in rows], [r[fan] for r in rows])


def _decided(world: World, trips: list[str], commands: list[str]) -> Iterator[str]:
    """Trip and drive against their values: on above the one, off below the other; a line between
    two commands, in whole numbers."""
    assert world.decisions is not None
    name, low, high = world.decisions
    (c,) = (c for c in world.channels if c.name == name)
    values = c.value(c.signal.raw)
    state, span = False, abs(high - low)
    for i, (value, trip, command) in enumerate(zip(values, trips, commands, strict=True)):
        state = bool(value > high) or (state and not value < low)
        if min(abs(value - high), abs(value - low)) < 1e-9 * span:
            state = trip == "1"  # the last digit of a float decides, and the state is held
        if trip != str(int(state)):
            yield f"trip in row {i}, at {value}: {trip}, not {state}"
            return
        wanted = float(np.clip((value - low) / span * 255, 0, 255))
        if abs(float(command) - wanted) > 0.5000001:
            yield f"drive in row {i}, at {value}: {command}, not {wanted}"
            return


def _same(what: str, found: list[Any], expected: list[Any]) -> Iterator[str]:
    if len(found) != len(expected):
        yield f"{what}: {len(found)} rows, {len(expected)} of convert"
        return
    for i, (a, b) in enumerate(zip(found, expected, strict=True)):
        a = None if a in ("", None) or a != a else a
        plain = a is None or b is None or isinstance(b, str)
        good = a == b if plain else float(str(a)) == b
        if not good:
            yield f"{what}: row {i}: {a!r}, {b!r} of convert"
            return


def stream(world: World, home: Path) -> Iterator[str]:
    """`jr.stream` gives what `convert` gives."""
    cells, bad = _converted(world, home)
    yield from bad
    if not cells:
        return
    bench = jr.load_bench(home / "bench.toml")
    found: dict[str, list[Any]] = {name: [] for name in cells}
    for sample in jr.stream(str(home / "log.txt"), bench):
        for name, column in found.items():
            column.append(sample.values[name])
    for name, expected in cells.items():
        channel = bench[name]
        labels = next(c.chain.labels for c in world.channels if c.name == name)
        column = _cells(channel, found[name], labels)
        yield from _same(f"stream: {name}", column, expected)


def frames(world: World, home: Path) -> Iterator[str]:
    """A frame of the raw values gives what `convert` gives."""
    cells, bad = _converted(world, home)
    yield from bad
    if not cells:
        return
    bench = jr.load_bench(home / "bench.toml")
    if world.numbered:
        return  # a frame's columns have names
    frame = pd.DataFrame({str(c.column): c.signal.raw for c in world.channels})
    out = bench.convert(frame)
    for c in world.channels:
        channel = bench[c.name]
        column = out[channel.output_column].tolist()
        texts = column if c.chain.labels else _cells(channel, column, ())
        yield from _same(f"frame: {c.name}", texts, cells[c.name])


def _cells(channel: jr.Channel, values: list[Any], labels: tuple[str, ...]) -> list[str]:
    """Values as `convert` writes them; of a zone, its label."""
    numbers = [math.nan if v is None else float(v) for v in values]
    if labels:
        return ["" if v != v else labels[int(v)] for v in numbers]
    return channel.cells(numbers)


#: What a survey says that holds for a column wherever it comes from.
SURVEYED = (
    "rows", "missing", "smallest", "largest", "mean", "median", "standard_deviation", "noise",
    "distinct", "spikes", "spike_row", "low_end", "high_end", "on_low_rail", "on_high_rail",
)  # fmt: skip


def in_memory(world: World, home: Path) -> Iterator[str]:
    """Frames, Series, arrays, lists with gaps are surveyed as the log is; two series compared."""
    bench = jr.load_bench(home / "bench.toml")
    of_log = jr.look(home / "log.txt", bench).columns
    of_frame = of_log
    if not world.numbered:  # a frame's columns have names
        frame = pd.DataFrame({str(c.column): c.signal.raw for c in world.channels})
        of_frame = jr.look(frame, bench).columns
    for c in world.channels:
        first, raw = of_log[c.name].survey, c.signal.raw
        others = {"look(frame)": of_frame[c.name].survey}
        if c.edge.kind in ("plain", "full"):
            masked = np.ma.masked_invalid(raw)
            gaps = [None if n != n else int(n) for n in raw]
            for name, given in (("Series", pd.Series(raw)), ("masked", masked), ("list", gaps)):
                others[f"survey({name})"] = jr.survey(given, c.edge.bits)
            try:
                ends = jr.find_ends(raw, c.edge.bits)
            except jr.errors.NothingMovedError:
                moved = np.ptp(np.quantile(c.signal.valid, (0.005, 0.995)))  # without its spikes
                if moved > 12 * first.noise and c.signal.move in ("wave", "ramp"):
                    yield f"{c.name}: find_ends says that nothing moved"
            else:
                if not first.smallest <= ends.low <= ends.high <= first.largest:
                    yield f"{c.name}: find_ends says {ends}"
        for name, survey in others.items():
            for field in SURVEYED:
                a, b = getattr(survey, field), getattr(first, field)
                if not (a == b or _close(a, b, 1e-9, 1e-9 * c.edge.step)):
                    yield f"{c.name}: {field} of {name} is {a}, of the log {b}"
        values = c.value(raw)
        if c.chain.labels or np.count_nonzero(np.isfinite(values)) < 3:
            continue
        found = jr.compare(pd.Series(values), values - 1.0)
        if not _close(found.bias, 1.0, 1e-6, 1e-9 * float(np.nanmax(np.abs(values)))):
            yield f"{c.name}: compare says a bias of {found.bias}, true 1"


# explain, report, pictures, export -------------------------------------------------------------


def explain(world: World, home: Path) -> Iterator[str]:
    """The last line has the value of the formulas."""
    bench = jr.load_bench(home / "bench.toml")
    for c in world.channels:
        raw = float(np.median(c.signal.valid))
        at = f"{raw:.{c.edge.digits}f}"
        done, bad = run(home, "explain", c.name, f"--at={at}", "-b", "bench.toml")
        yield from bad
        if done.returncode or not c.shown(np.array([float(at)]))[0]:
            continue
        value = c.value([float(at)])[0]
        trace = bench[c.name].ruler.trace(float(at))
        for step in trace.steps:
            try:
                check_line(step.line)
            except AssertionError as error:
                yield f"explain {c.name} --at {at}: retyped, {error}"
        if c.chain.labels:
            if bench[c.name].ruler.label(float(trace.reading.value)) != c.chain.labels[int(value)]:
                yield f"explain {c.name} --at {at}: {done.stdout}"
        elif not _close(float(trace.reading.value), value, 1e-9, 1e-9):
            yield f"explain {c.name} --at {at}: {trace.reading.value}, not {value}"
        if found := NO_VALUE.search(done.stdout):
            yield f"explain says {done.stdout[max(0, found.start() - 40) : found.end() + 40]!r}"


def tables(world: World, home: Path) -> Iterator[str]:
    """Every row of a value table is that of the formulas; a mark that is off by so much is said to
    be."""
    bench = jr.load_bench(home / "bench.toml")
    for c in world.channels:
        done, bad = run(home, "explain", c.name, "--every", f"{c.edge.span / 7:.6g}", "-b",
                        "bench.toml", codes=(0, 2))  # fmt: skip
        yield from bad
        if found := NO_VALUE.search(done.stdout):
            yield f"explain --every says {done.stdout[max(0, found.start() - 40) : found.end()]!r}"
        made = jr.value_table(bench[c.name])
        inside = c.shown(made.raw)
        for raw, got, value in zip(made.raw[inside], made.values[inside], c.value(made.raw)[inside],
                                   strict=True):  # fmt: skip
            if not _close(got, value, 1e-9, 1e-9):
                yield f"{c.name}: the table has {got} at {raw}, not {value}"
        low, high = c.chain.ends
        at = np.round(np.linspace(low, high, 5)[1:-1] / c.edge.step) * c.edge.step
        true = c.value(at)
        rounded = {"whole", "dead-band"} & set(c.chain.names)  # marks are held against what is not
        if c.chain.labels or rounded or not np.isfinite(true).all():
            continue
        off = 0.01 * float(np.ptp(c.value(np.linspace(low, high, 101)))) or 1.0
        checked = jr.spot_check(bench[c.name], np.stack([at, true - off], axis=1))
        if not all(_close(one, off, 1e-6, 1e-9 * np.abs(true).max()) for one in checked.error):
            yield f"{c.name}: marks are off by {checked.error}, true {off}"


#: Laws whose slope is not that of all their values.
_UNEVEN = {"whole", "clamp", "zones", "dead-band", "magnitude", "table"}


def budget(world: World, home: Path) -> Iterator[str]:
    """A budget is made, or refused in a sentence; it is what draws of our own show."""
    for c in world.channels:
        raw = float(np.median(c.signal.valid))
        args = ("explain", c.name, f"--at={raw:.{c.edge.digits}f}", "--budget", "-b", "bench.toml")
        _, bad = run(home, *args, codes=(0, 2))
        yield from bad
        if not _UNEVEN & set(c.chain.names) and c.signal.fault != "shifted":
            yield from _drawn(c, home, raw, c.chain.value)


def _drawn(
    c: Made, home: Path, raw: float, trend: Any, noise: float | None = None, room: float = 0.03
) -> Iterator[str]:
    if c.edge.bits < 10 or not c.shown(np.array([raw]))[0]:
        return
    noise = 3.0 * c.edge.step if noise is None else noise
    found = jr.budget(jr.load_bench(home / "bench.toml")[c.name], raw, noise=noise)
    random = np.random.RandomState(world_seed(c))
    reads = raw + noise * random.standard_normal(200_000)
    reads = np.round(reads / c.edge.step) * c.edge.step
    spread = float(np.std(c.chain.value(reads) - trend(np.array([raw]))))
    if not _close(found.combined, spread, room):
        yield f"{c.name}: the budget at {raw} says {found.combined}, draws {spread}"


def world_seed(c: Made) -> int:
    """A seed that differs from channel to channel."""
    return len(c.signal.cells) + len(c.name)


def rounded_budget(world: World, home: Path) -> Iterator[str]:
    """The budget of a rounded result is that of its trend, and of its own rounding: under noise of
    some steps of the result, on a chain that is straight as far as that reaches."""
    for c in world.channels:
        if (
            c.chain.names[-1:] != ("whole",)
            or _UNEVEN & set(c.chain.names[:-1])
            or c.edge.bits < 10
        ):
            continue
        raw = float(np.median(c.signal.valid))
        found = jr.budget(jr.load_bench(home / "bench.toml")[c.name], raw, noise=3 * c.edge.step)
        slope = next((r.sensitivity for r in found.rows if r.source == "noise"), math.nan)
        noise = max(3 * c.edge.step, 3 / abs(float(slope))) if slope else math.nan
        ends = np.array([raw - 5 * noise, raw, raw + 5 * noise])
        if not (np.isfinite(noise) and c.shown(ends).all()):
            continue
        low, middle, high = c.chain.value(ends)
        if abs(low + high - 2 * middle) > 2 + 0.01 * abs(high - low):
            continue
        # Steps of the input that are a large part of those of the result fall into step with them,
        # and the two roundings are then not independent.
        room = 0.03 if abs(float(slope)) * c.edge.step < 0.1 else 0.06
        yield from _drawn(c, home, raw, c.chain.value, noise, room)


def typed_in(world: World, home: Path) -> Iterator[str]:
    """What a chip makes of the formula is told for every chain; in floats it is the formula's."""
    for c in world.channels:
        raw = round(float(np.median(c.signal.valid)), c.edge.digits)
        at = ("explain", c.name, f"--at={raw:.{c.edge.digits}f}", "-b", "bench.toml")
        for arith in ("int16", "uint16", "float32"):
            done, bad = run(home, *at, "--arith", arith, "--json", codes=(0, 2))
            yield from bad
        if done.returncode or _UNEVEN & set(c.chain.names) or not c.shown(np.array([raw]))[0]:
            continue
        found, value = json.loads(done.stdout)["result"], c.value([raw])[0]
        if not _close(found, value, 1e-3, 1e-2):
            yield f"{c.name}: typed in as floats, {raw} gives {found}, not {value}"


def wide_export(world: World, home: Path) -> Iterator[str]:
    """A converter of more than 16 bits has an export, at least in floats."""
    for c in world.channels:
        if c.edge.unit != "count" or c.edge.bits <= 16:
            continue
        to = ("export", c.name, "--to", "c", "-o", "made.h", "-b", "bench.toml")
        done, bad = run(home, *to, codes=(0, 2))
        yield from bad
        if done.returncode:
            _, bad = run(home, *to, "--arith", "float")
            yield from bad


#: Sizes in inches, and styles, that take turns.
SIZES = ((4.0, 2.4), (8.0, 3.0), (12.8, 8.0), (16.0, 4.2))
STYLES = ("default", "dark_background", "ggplot")
#: Pictures of a channel, two of which take turns beside the ruler.
DRAWN = ("curve", "slope", "stages", "circuit", "band", "sources", "histogram")


def tidy_pictures(world: World, home: Path) -> Iterator[str]:
    """No text touches another, or is cut, on axes of any size and in any style; the ticks of a
    ruler stand where its formulas put them."""
    bench = jr.load_bench(home / "bench.toml")
    looked = jr.look(home / "log.txt", bench)
    for turn, c in enumerate(world.channels, world.seed):
        size, style = SIZES[turn % len(SIZES)], STYLES[turn % len(STYLES)]
        for kind in ("ruler", *(DRAWN[(turn + i) % len(DRAWN)] for i in (0, 3))):
            with matplotlib.style.context(style):
                figure = Figure(figsize=size, layout="constrained")
                try:
                    if kind == "histogram":
                        survey = looked.columns[c.name].survey
                        jr.plots.histogram(survey, c.name, ax=figure.subplots())
                    else:
                        getattr(jr.plots, kind)(bench[c.name], ax=figure.subplots())
                except jr.errors.JetRulerError as error:  # no range, or a zone: said
                    if not str(error):
                        yield f"{kind} of {c.name}: an error without a word"
                    continue
                yield from (f"{kind} of {c.name}, {size}: {both}" for both in overlaps(figure))
        yield from _ticks(bench[c.name], c)


def _ticks(channel: jr.Channel, c: Made) -> Iterator[str]:
    """Each tick of the true edge stands at a raw value that the formulas turn into its value."""
    if c.chain.labels or channel.ruler.edge is None or not channel.ruler.edge.is_bounded:
        return
    ticks = true_ticks(channel.ruler, 20, channel.limits)
    edge = channel.ruler.edge
    # Half a pixel, most of all near the tick: some curves leave the picture within a step.
    near = 0.0005 * (edge.highest - edge.lowest) * np.linspace(-1, 1, 21) ** 3
    for tick in ticks:
        places = np.clip(tick.raw + near, edge.lowest, edge.highest)
        around = c.value(places)
        around = around[np.isfinite(around)]
        room = 1e-6 * max(1.0, abs(tick.value))
        if around.size and not around.min() - room <= tick.value <= around.max() + room:
            yield f"{c.name}: the tick {tick.value} stands at {tick.raw}, which reads {around}"


def pictures(world: World, home: Path) -> Iterator[str]:
    """Every picture is drawn."""
    name = world.channels[0].name
    for what in (("ruler", name), ("curve", name), ("stages", name), ("log", "log.txt"),
                 ("histogram", "log.txt")):  # fmt: skip
        done, bad = run(home, "draw", *what, "-b", "bench.toml", "-o", "x.svg", codes=(0, 2))
        yield from bad
        if done.returncode == 2:
            yield f"draw {' '.join(what)}: {done.stderr.strip()}"


def report(world: World, home: Path) -> Iterator[str]:
    """A report of the bench and its log is made."""
    args = ("report", "--log", "log.txt", "-b", "bench.toml", "-o", "report.md")
    (home / "report.md").unlink(missing_ok=True)
    _, bad = run(home, *args)
    yield from bad


def export(world: World, home: Path) -> Iterator[str]:
    """The exported function gives the values of the formulas, or the export is refused."""
    c = world.channels[0]
    to = ("--to", "python", "-o", "made.py", "--json")
    args = ("export", c.name, *to, "-b", "bench.toml")
    done, bad = run(home, *args, codes=(0, 2))
    yield from bad
    if done.returncode:
        return
    scope: dict[str, Any] = {}
    exec((home / "made.py").read_text("utf-8"), scope)
    names = (rf"{c.name}(_(?!flags)[a-z]+)?$", scope.items())
    function = next(f for name, f in names[1] if callable(f) and re.match(names[0], name))
    (proof,) = json.loads(done.stdout)
    room = float(proof["proof"]["worst"]) * (1 + 1e-6)
    for raw in np.unique(c.signal.valid)[::37]:
        value = c.value([raw])[0]
        if not c.shown(np.array([raw]))[0] or c.chain.labels:
            continue
        found = function(round(raw / (1 if c.edge.unit == "count" else c.edge.step)))
        if found is None or not _close(found / proof["scale"], value, 1e-9, room):
            yield f"export {c.name}: {raw}: {found}, not {value}"
            return


def advice(world: World, home: Path) -> Iterator[str]:
    """`choose`, `fit` and `compare` answer, or say why not."""
    for c in world.channels:
        at = f"{float(np.median(c.signal.valid)):.{c.edge.digits}f}"
        marks = [
            f"--mark={x:.{c.edge.digits}f}={float(c.value([x])[0]):.6g}"
            for x in np.linspace(*c.chain.ends, 4)
        ]
        asked = [
            ("choose", "averaging", c.name, f"--at={at}", "--to=0.5"),
            ("fit", c.name, *marks),
            ("fit", c.name, *marks, "--correction"),
            ("compare", c.name, *marks),
        ]
        values = c.value(np.linspace(*c.chain.ends, 5))
        if "divider" in c.chain.names and np.isfinite(values).all() and not c.chain.labels:
            ends = (f"--from={values[1]:.6g}", f"--to={values[3]:.6g}")
            asked.append(("choose", "resistor", c.name, *ends))
        if len(world.channels) > 1:
            asked.append(("compare", c.name, world.channels[-1].name, "--log", "log.txt"))
        for args in asked:
            done, bad = run(home, *args, "-b", "bench.toml", codes=(0, 2))
            yield from bad
            if found := NO_VALUE.search(done.stdout):
                around = done.stdout[max(0, found.start() - 60) : found.end() + 20]
                yield f"{' '.join(args)} says {around!r}"


CHECKS: tuple[Check, ...] = (
    look, look_without_bench, check, new, convert, live, stream, frames, in_memory, explain,
    tables, budget, rounded_budget, pictures, tidy_pictures, report, export, advice, typed_in,
    wide_export,
)  # fmt: skip


#: The quick ones; the others draw, or run over every count.
QUICK = (look, look_without_bench, check, new, convert, live, stream, frames, explain)
SLOW = tuple(one for one in CHECKS if one not in QUICK)


def wrong(world: World, home: Path, checks: Sequence[Check] = CHECKS) -> dict[str, list[str]]:
    """What is wrong, by check."""
    found: dict[str, list[str]] = {}
    unpack(world, home)
    for one in checks:
        try:
            bad = list(one(world, home))
        except Exception as error:  # whatever it is, it is none of what a command may do
            bad = [f"{type(error).__name__}: {error}"]
        if bad:
            found[one.__name__] = bad
    return found
