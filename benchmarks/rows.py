"""One job (four channels, CSV to CSV) in four ways, from a hundred rows to ten million: `convert`,
a pandas script, a NumPy script, and a plain Python loop. Start of Python included.
![Seconds against rows](rows.svg)"""

from __future__ import annotations

import math
import statistics
import sys
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

from jetruler.show.style import BLUE, GREY, JET, RED, new_figure, plain, rendered

from .logs import PANDAS, converting
from .made_up import BENCH, csv_log
from .timing import Result, measured, process, seconds

PICTURE = Path(__file__).parents[1] / "docs" / "rows.svg"

NUMPY = """
import sys, numpy
with open(sys.argv[1]) as log:
    names = log.readline().replace('"', '').strip().split(",")
table = numpy.loadtxt(sys.argv[1], delimiter=",", skiprows=1)
for i in range(4):
    column = names.index(f"ch{i}")
    fraction = (table[:, column] - 198) / (3904 - 198) * 100
    table[:, column] = numpy.clip(fraction, 0, 100)
numpy.savetxt(sys.argv[2], table, delimiter=",", fmt=["%.3f"] + ["%.1f"] * 4)
"""

PLAIN = """
import csv, sys
with open(sys.argv[1], newline="") as log, open(sys.argv[2], "w", newline="") as out:
    rows, write = csv.DictReader(log), csv.writer(out)
    for row in rows:
        values = [(int(row[f"ch{i}"]) - 198) / (3904 - 198) * 100 for i in range(4)]
        write.writerow([row["time_s"], *(round(min(max(v, 0), 100), 1) for v in values)])
"""

#: Rows, and how often each way is timed.
ROWS = {100: 7, 10_000: 7, 1_000_000: 3, 10_000_000: 1}
#: Ways that take minutes are left out from so many rows on.
LONGEST = {"plain Python": 10_000_000, "NumPy": 10_000_000}


def results() -> Iterator[Result]:
    """Every figure of this room."""
    found: dict[str, dict[int, float]] = {}
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        (home / "bench.toml").write_text(BENCH)
        log, out = home / "log.csv", home / "out.csv"
        ways: dict[str, Callable[[], object]] = {"convert": process(*converting(home, log, out))}
        for name, code in (("pandas", PANDAS), ("NumPy", NUMPY), ("plain Python", PLAIN)):
            ways[name] = process(sys.executable, "-c", code, str(log), str(out))
        for rows, rounds in ROWS.items():
            csv_log(log, rows)
            timed = [name for name in ways if rows < LONGEST.get(name, math.inf)]
            turns = [[seconds(ways[name]) for name in timed] for _ in range(rounds + (rounds > 1))]
            for name, times in zip(timed, zip(*turns[rounds > 1 :], strict=True), strict=True):
                found.setdefault(name, {})[rows] = statistics.median(times)
            for name in timed[1:]:
                value = found["convert"][rows] / found[name][rows]
                yield measured(f"{rows:,} rows: convert / {name}", value, math.inf)
    for name in list(ways)[1:]:
        even = break_even(found["convert"], found[name])
        told = f"{name} is faster below" if even else f"{name} is nowhere faster"
        yield measured(told, even, math.inf, "rows")
    draw(found)


def break_even(own: dict[int, float], other: dict[int, float]) -> float:
    """The rows from which on our way is the faster one, between two that were timed (straight in
    logarithms); 0 if it always is."""
    rows = [n for n in own if n in other]
    ahead = [math.log(own[n] / other[n]) for n in rows]
    for i in range(len(rows) - 1, 0, -1):
        if ahead[i] <= 0 < ahead[i - 1]:
            part = ahead[i - 1] / (ahead[i - 1] - ahead[i])
            a, b = math.log10(rows[i - 1]), math.log10(rows[i])
            return float(f"{10 ** (a + part * (b - a)):.2g}")
    return 0.0 if ahead[0] <= 0 else math.inf


def draw(found: dict[str, dict[int, float]]) -> None:
    """Seconds against rows, a line for each way; where another way stops being faster, a mark."""
    figure = new_figure()
    ax = plain(figure.add_subplot())
    colors = dict(zip(found, (RED, BLUE, "#a06a00", GREY), strict=True))
    for name, times in found.items():
        width = 3.0 if name == "convert" else 1.5
        ax.plot(list(times), list(times.values()), "o-", linewidth=width, color=colors[name])
        last = max(times)
        ax.annotate(
            name,
            (last, times[last]),
            xytext=(10, 0) if name != "plain Python" else (0, 16),
            textcoords="offset points",
            color=colors[name],
            fontsize=13,
            va="center",
        )
    for name in list(found)[1:]:
        even = break_even(found["convert"], found[name])
        if 0 < even < math.inf:
            ax.axvline(even, color=colors[name], linestyle=":")
            ax.annotate(
                f"{name} is faster below {even:,.0f} rows",
                (even, ax.get_ylim()[1]),
                xytext=(-6, -10),
                textcoords="offset points",
                rotation=90,
                ha="right",
                va="top",
                color=colors[name],
            )
    ax.set_xscale("log")
    ax.set_yscale("log")
    ax.set_xlim(70, 1e8)
    ax.set_xlabel("rows (4 channels, CSV to CSV)", fontsize=12)
    ax.set_ylabel("seconds, the start of Python included", fontsize=12)
    ax.set_title("What a log takes, in four ways", loc="left", fontsize=15, color=JET)
    PICTURE.write_bytes(rendered(figure, "svg"))
