"""Random benches with all that remembers, run sample by sample through exported code."""

from __future__ import annotations

import runpy
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.bench import Bench
from jetruler.core.firmware.bench_machines import machines_of
from jetruler.core.firmware.exported import Exported
from jetruler.core.firmware.names import safe_name
from jetruler.core.firmware.program import LARGEST, Machine
from jetruler.core.firmware.selection import export, usual_arith
from jetruler.targets import target_named
from jetruler.targets.python import class_name
from jetruler.targets.target import ExportOptions
from tests.helpers.compiled import Printing
from tests.helpers.structured_text import structured

SAMPLES = 500
#: Results of every sample, by name: counts after smoothing, zones, trips, commands.
Results = dict[str, np.ndarray[Any, Any]]

CHAINS = (
    '{{ law = "line", marks = [[{a}, {y}], [{b}, 100]], unit = "%" }}, '
    '{{ law = "clamp", low = 0, high = 100 }}',
    '{{ law = "divider", known = 4700 }}, {{ law = "beta", r0 = 100000, beta = 3950 }}',
    '{{ law = "expect", low = {a}, high = {b} }}, {{ law = "line", gain = -0.037, unit = "cm" }}',
    '{{ law = "polynomial", coefficients = [-3, {p}, {q}], takes = "count", unit = "bar" }}',
)


@dataclass(frozen=True)
class Chip:
    """A bench, what was exported of it, and a stream: times in ms that wrap, counts by channel."""

    bench: Bench
    made: list[Exported]
    machines: tuple[Machine, ...]
    times: list[int]
    counts: dict[str, np.ndarray[Any, Any]]

    def file(self, target: str) -> str:
        """The exported file."""
        return target_named(target).file(
            self.made, ExportOptions(self.bench, "0", machines=self.machines)
        )


def chip(seed: int, widths: tuple[int, ...] = (8, 10, 12)) -> Chip:
    """The bench and the stream of a seed. widths: bits that its converter may have."""
    random = np.random.RandomState(seed)

    def pick(*of: Any) -> Any:
        return of[random.randint(len(of))]

    bits = pick(*widths)
    top = 2**bits - 1
    parts = [f"[converter]\nbits = {bits}\nvref = 3.3\n"]
    for name in ("a", "b", "k-1"):
        low, high = sorted(random.choice(np.arange(top // 20, top, top // 20), 2, replace=False))
        small = min(1.0, 4095 / top)
        laws = pick(*CHAINS).format(
            a=low, b=high, y=pick(0, -20), p=0.11 * small, q=-2e-5 * small**2
        )
        over = pick(1, 2, 3, 4, 7)
        kind = pick("mean", "median", "exponential")
        smooth = pick("", f'smooth = {{ kind = "{kind}", over = {over} }}\n')
        parts.append(f'[channel.{name}]\ncolumn = "{name}"\ndecimals = {pick(0, 1)}\n{smooth}')
        if name == "b" and random.rand() < 0.7:
            edges = [top // 3, top // 2, 3 * top // 4]
            values = pick(
                '["lo", "mid", "up", "top"]', "[0, 40, 50, 90]", "[[0, 1], [1, 0], [1, 1], [0, 0]]"
            )
            far, gain = pick(0, 1, top / 40, top / 10 + 0.5), pick(1, 0.1, -0.25)
            line = f'{{ law = "line", gain = {gain}, unit = "mm" }}, ' if gain != 1 else ""
            laws = (
                f'{line}{{ law = "zones", edges = {sorted(gain * edge for edge in edges)}, '
                f'values = {values}, takes = "{"mm" if line else "count"}", '
                f"hysteresis = {abs(gain) * far} }}"
            )
        parts.append(f"laws = [{laws}]\n")
    own = parse_bench("".join(parts))
    every = np.unique(np.rint(np.linspace(0, top, min(top + 1, 2**16))).astype(np.int64))
    values = {n: c.ruler(every) for n, c in own.channels.items()}

    def level(name: str) -> float:
        there = values[name][~np.isnan(values[name])]
        return float(pick(*np.quantile(there, [0.2, 0.4, 0.5, 0.7]).tolist()))

    def condition(name: str) -> str:
        x, y = sorted((level(name), level(name)))
        away = pick(f", release = {x!r}", "")
        back = pick(f", release = {y!r}", "")
        moves = (
            ""
            if own[name].ruler.label(0.0) is not None or name == "b"
            else pick("rises_by", "falls_by", "changes_by")
        )
        kinds = [f"above = {y!r}{away}", f"below = {x!r}{back}", "flagged = true"]
        kinds += [f'{moves} = {abs(y - x) / 3 + 0.41!r}, within = "0.7 s"'] if moves else []
        return f'{{ channel = "{name}", {pick(*kinds)} }}'

    for i in range(3):
        join, names = (
            pick("any", "all"),
            random.choice(["a", "b", "k-1"], pick(1, 2, 3), replace=False),
        )
        listed = ", ".join(condition(name) for name in names)
        hold, stay = pick("", 'hold = "0.35 s"\n'), pick("", "stay = 0.9\n")
        parts.append(f"[trip.t{i}]\n{join} = [{listed}]\n{hold}{stay}")
    for i, source in enumerate(("a", "b", "k-1", "t0")):
        span = pick('"duty8"', '"pulse"', '"duty16"', "[-100, 100]")
        ends = {
            '"duty8"': (0, 255),
            '"pulse"': (0, 20000),
            '"duty16"': (0, 65535),
            "[-100, 100]": (-100, 100),
        }[span]
        x = (
            [0, 1]
            if source == "t0"
            else sorted((level(source), level(source) + 0.5, level(source) + 31))
        )
        y = [int(random.randint(ends[0], ends[1] + 1)) for _ in x]
        x = x if len(set(x)) == len(x) else [0, 1, 2]
        marks = [[float(p), q] for p, q in zip(x, y, strict=True)]
        dead = pick("", f"dead_band = {pick(1, (ends[1] - ends[0]) / 15)}\n")
        slew = pick("", f"slew = {pick(0.5, 3.9, 90, 700.25, 1e5)}\n")
        when = pick("", 'safe_when = ["t1"]\n', 'safe_when = ["t1", "t2"]\n')
        parts.append(
            f'[drive.d{i}]\nfrom = "{source}"\nrange = {span}\nsafe = {y[0]}\n'
            f"marks = {marks}\n{dead}{slew}{when}"
        )
    bench = parse_bench("".join(parts))
    made = [
        export(c, safe_name(n), pick("int32", "int16") if bits < 12 else usual_arith(c))
        for n, c in bench.channels.items()
    ]
    found = machines_of(bench, made, None)
    assert not found.notes, found.notes
    steps = random.choice([1, 7, 20, 50, 150], SAMPLES)
    times = (2**32 - 4000 + np.cumsum(steps)) % 2**32
    walk = np.cumsum(random.choice([-9, -1, 0, 1, 9], (SAMPLES, 3)) * (top / 250), axis=0) + top / 2
    walk[random.rand(SAMPLES, 3) < 0.01] = top
    counts = np.clip(np.rint(walk), 0, top).astype(int)
    return Chip(
        bench,
        made,
        found.machines,
        times.tolist(),
        dict(zip(bench.channels, counts.T, strict=True)),
    )


def steps(c: Chip, i: str) -> list[tuple[Machine, str, list[str]]]:
    """The machines in order, with the name of what each gives and of what it is given."""
    found = []
    smoothed = {
        m.update.removesuffix("_smooth") for m in c.machines if m.name.endswith("_smoothing")
    }
    for m in c.machines:
        owner = m.update.rpartition("_")[0]
        given = []
        for name in m.inputs:
            if name == "n":
                given.append(f"{owner}_raw" if m.name.endswith("_smoothing") else f"{owner}_count")
            elif name == "unsafe":
                drive = next(d for d in c.bench.drives.values() if safe_name(d.name) == m.name)
                given.append(i.join(f"{trip}_on" for trip in drive.safe_when))
            else:
                given.append(name)
        if m.name.endswith("_smoothing"):
            gives = f"{owner}_count"
        elif m.name.endswith("_holding"):
            gives = f"{owner}_zone"
        else:
            gives = f"{m.name}_on" if m.name in c.bench.trips else m.name
        found.append((m, gives, given))
    del smoothed
    return found


def inputs(c: Chip) -> dict[str, np.ndarray[Any, Any]]:
    """Raw counts; of a channel that is not smoothed, also the count to read."""
    smoothed = {m.name for m in c.machines}
    found = {f"{safe_name(n)}_raw": counts for n, counts in c.counts.items()}
    plain = {n: v for n, v in c.counts.items() if f"{safe_name(n)}_smoothing" not in smoothed}
    return found | {f"{safe_name(n)}_count": counts for n, counts in plain.items()}


def run(
    c: Chip, update: Mapping[str, Callable[..., int]], value: Callable[[str, int], Any]
) -> Results:
    """Every sample through updates by machine; values of each channel at the end."""
    results: dict[str, list[int]] = {}
    given = {name: counts.tolist() for name, counts in inputs(c).items()}
    order = steps(c, " or ")
    for i, now in enumerate(c.times):
        scope: dict[str, Any] = {"now": now, **{name: counts[i] for name, counts in given.items()}}
        for m, gives, names in order:
            asked = [
                int(any(scope[part] for part in name.split(" or ")))
                if " or " in name
                else scope[name]
                for name in names
            ]
            scope[gives] = int(update[m.name](*asked))
        for e in c.made:
            scope[f"{e.name}_value"] = value(e.name, scope[f"{e.name}_count"])
        for name, x in scope.items():
            results.setdefault(name, []).append(-(2**31) if x is None else x)
    return {name: np.array(column, dtype=np.int64) for name, column in results.items()}


def in_python(c: Chip, folder: Path) -> Results:
    """Through the exported Python module."""
    path = folder / "chip.py"
    path.write_text(c.file("python"))
    module = runpy.run_path(str(path))
    updates = {m.name: module[class_name(m.name)]().update for m in c.machines}
    return run(c, updates, lambda name, n: module[name](n))


def in_structured_text(c: Chip, folder: Path) -> Results:
    """Through the exported structured text."""
    made = structured(c.file("st"))
    updates = {m.name: made[m.update]() for m in c.machines}
    none = {e.name: -LARGEST[e.program.arith] - 1 for e in c.made}

    def value(name: str, n: int) -> int:
        found: int = made[name](n)
        return -(2**31) if found == none[name] else found

    return run(c, updates, value)


def in_c(c: Chip) -> Printing:
    """A program that prints the results of every sample, a line each."""
    names = sorted(inputs(c))
    columns = [inputs(c)[name].tolist() for name in names]
    rows = ", ".join(
        f"{{{t}u, {', '.join(map(str, x))}}}" for t, *x in zip(c.times, *columns, strict=True)
    )
    own = "int64_t" if any(m.arith == "int64" for m in c.machines) else "int32_t"
    body = [f"static const int64_t in[][{len(names) + 1}] = {{{rows}}};"]
    body += [f"static struct {m.name} s_{m.name};" for m in c.machines if m.state]
    body += [
        f"for (int i = 0; i < {len(c.times)}; i++) {{",
        "uint32_t now_ = (uint32_t)in[i][0];",
        "(void)now_;",
    ]
    body += [
        f"{own} {name}_ = ({own})in[i][{k}]; (void){name}_;"
        for k, name in enumerate(names, start=1)
    ]
    out = []
    for m, gives, given in steps(c, "_ || "):
        state = [f"&s_{m.name}"] if m.state else []
        cast = {name: "" if name == "now" or "||" in name else f"({m.arith}_t)" for name in given}
        asked = ", ".join([*state, *(f"{cast[name]}{name}_" for name in given)])
        body.append(f"{own} {gives}_ = {m.update}({asked});")
        out.append(gives)
    for e in c.made:
        kind, none = f"{e.program.arith}_t", f"{e.program.arith.upper()}_MIN"
        body.append(f"{own} {e.name}_value_ = {e.name}(({kind}){e.name}_count_);")
        if kind != "int32_t":
            body.append(f"if ({e.name}_value_ == {none}) {e.name}_value_ = INT32_MIN;")
        out.append(f"{e.name}_value")
    body += [f'printf("%ld ", (long){name}_);' for name in out]
    body.append('puts("");\n}')
    return Printing(c.file("c"), "\n".join(body))


def of_c(c: Chip, lines: list[str]) -> Results:
    """What the C program has printed."""
    names = [gives for _, gives, _ in steps(c, "")] + [f"{e.name}_value" for e in c.made]
    found = np.array([line.split() for line in lines], dtype=np.int64).T
    return dict(zip(names, found, strict=True))
