"""Random benches and random logs for them, from a seed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.bench import Bench

ROWS = 400


@dataclass(frozen=True)
class Made:
    """A bench, its file, and a log that it reads."""

    bench: Bench
    file: str
    log: str


CHAINS = (
    'laws = [{{ law = "line", marks = [[{a}, 0], [{b}, 100]], unit = "%" }}, '
    '{{ law = "clamp", low = 0, high = 100 }}]',
    'laws = [{{ law = "divider", known = "4k7" }}, '
    '{{ law = "beta", r0 = "100 kohm", beta = 3950 }}]\nlimits = [20, 200]',
    'laws = [{{ law = "divider", known = "10 kohm", sensor = "upper", load = "220 kohm", '
    'supply = "3.3 V" }}, {{ law = "steinhart-hart", a = 8.8e-4, b = 2.3e-4, c = 1.1e-7, '
    'unit = "degF" }}, {{ law = "to", unit = "K" }}]',
    'laws = [{{ law = "divider", known = "220 ohm", sensor = "upper", supply = "3.3 V" }}, '
    '{{ law = "platinum", r0 = "100 ohm" }}]\nlimits = [-50, 300]',
    'laws = [{{ law = "attenuator", upper = "33 kohm", lower = "10 kohm" }}]',
    'laws = [{{ law = "shunt", ohms = "150 ohm" }}, {{ law = "expect", low = 0.0035, '
    'high = 0.0205, unit = "A" }}, {{ law = "line", marks = [["4 mA", 0], ["20 mA", 10]], '
    'unit = "bar", takes = "A" }}, {{ law = "to", unit = "psi" }}]',
    'laws = [{{ law = "amplifier", gain = 4.7, offset = "0.3 V" }}, {{ law = "power", a = 12, '
    'b = 1.4, c = 2, unit = "cm", takes = "V" }}]',
    'laws = [{{ law = "polynomial", coefficients = [-3, 0.11, -2e-5], takes = "count", '
    'unit = "%" }}, {{ law = "limits", low = 5, high = 90 }}]',
    'laws = [{{ law = "formula", expression = "a * sqrt(x + 3) - b", a = 2.3, b = 7, '
    'takes = "count" }}]',
    'laws = [{{ law = "table", points = [[{a}, 1], [{m}, 5], [{b}, 40]], unit = "cm" }}]',
    'laws = [{{ law = "table", points = [[{a}, 1], [{m}, 5], [{b}, 40]], unit = "cm", '
    'method = "smooth", ends = "hold" }}]',
    'laws = [{{ law = "line", gain = 0.01, unit = "g" }}, {{ law = "whole" }}]',
    'laws = [{{ law = "line", gain = 0.1, offset = -150, takes = "count" }}, '
    '{{ law = "magnitude" }}, {{ law = "pass-through" }}]',
    'laws = [{{ law = "line", gain = 0.1, takes = "count", unit = "%" }}, {{ law = "zones", '
    'edges = [100, 250], values = ["low", "mid", "high"], hysteresis = {h} }}]',
    'laws = [{{ law = "line", gain = 0.1, takes = "count", unit = "%" }}, {{ law = "zones", '
    "edges = [100, 250], values = [0, 40, 90], hysteresis = {h} }}, "
    '{{ law = "line", gain = 2.5, unit = "rpm" }}]',
    'laws = [{{ law = "zones", edges = [{a}, {b}], values = [[0, 1], [1, 0], [1, 1]], '
    'takes = "count" }}]',
    "laws = []",
)
INPUTS = (
    'input = {{ unit = "cm", resolution = 0.5, range = [0, 2000] }}\n'
    'laws = [{{ law = "line", gain = -0.25, offset = 500, unit = "%" }}]',
    'input = {{ unit = "V" }}\nlaws = [{{ law = "magnitude" }}]',
    'input = {{ unit = "m/s²", range = [-500, 4000] }}\nlaws = [{{ law = "dead-band", low = 900, '
    "high = 1100 }}]",
    'input = {{ unit = "g", resolution = 0.5 }}\nlaws = [{{ law = "zones", edges = [700, 1500], '
    "values = [1, 2, 3], hysteresis = {h} }}]",
)
CONVERTERS = (
    "bits = 12", "bits = 16, codes = 12", "bits = 10", "bits = 16, signed = true",
    "bits = 12, signed = true", 'bits = 14, vref = "5 V"', "bits = 12, count_at_vref = 4096",
)  # fmt: skip
SMOOTH = (
    "",
    'smooth = {{ kind = "{kind}", over = {over} }}',
    'smooth = {{ kind = "{kind}", over = "1 s" }}',
    'smooth = {{ kind = "median", over = {over}, blocks = true }}',
    'smooth = {{ kind = "mean", over = {over}, where = "values" }}',
)


def made(seed: int) -> Made:
    """Return the bench and the log of a seed."""
    random = np.random.RandomState(seed)
    parts = ['title = "Made"\n[converter]\nbits = 12\nvref = 3.3\n']
    columns: dict[str, list[str]] = {}
    for name in ("a", "b", "c"):
        low, high = sorted(random.choice(np.arange(100, 3900, 50), 2, replace=False).tolist())
        is_input = random.rand() < 0.35
        chain = (INPUTS if is_input else CHAINS)[
            random.randint(len(INPUTS if is_input else CHAINS))
        ]
        body = chain.format(a=low, b=high, m=(low + high) // 2, h=float(random.choice([0, 5])))
        own = CONVERTERS[random.randint(len(CONVERTERS))]
        converter = "" if is_input or random.rand() < 0.5 else f"converter = {{ {own} }}\n"
        kind = str(random.choice(["mean", "median", "exponential", "spikes"]))
        over = int(random.choice([2, 3, 5]))
        smooth = SMOOTH[random.randint(len(SMOOTH))].format(kind=kind, over=over)
        if "zones" in chain and "values" in smooth.partition("where")[2]:
            smooth = ""  # zones are no values to average
        decimals = f"decimals = {random.randint(0, 4)}\n" if random.rand() < 0.7 else ""
        head = f'[channel.{name}]\ncolumn = "{name}_raw"\n'
        parts.append(f"{head}{converter}{body}\n{smooth}\n{decimals}")
        columns[name] = _cells(random, is_input, own if converter else "bits = 12")
    parts.append(
        '[trip.t]\nany = [{ channel = "a", above = 50, release = 45 }, { channel = "b", '
        'flagged = true }]\nhold = "0.3 s"\nstay = "1 s"\n'
        '[trip.u]\nall = [{ channel = "c", below = 60, release = 70 }, { channel = "a", '
        'changes_by = 20, within = "2 s" }]\n'
        '[drive.d]\nfrom = "c"\nmarks = [[0, 0], [100, 255]]\nsafe = 7\nslew = 90\n'
        'dead_band = 3\nsafe_when = ["t"]\n'
        '[drive.e]\nfrom = "u"\nrange = "pulse"\nmarks = [[0, 1000], [1, 2000]]\nsafe = 1500\n'
    )
    file = "".join(parts)
    unit = random.choice(["time_s", "t_ms"])
    times = np.arange(ROWS) * 0.1 + (0.02 * random.rand(ROWS) if random.rand() < 0.5 else 0.0)
    size, digits = (1.0, 3) if unit == "time_s" else (1e-3, 0)
    rows = [
        ",".join([f"{t / size:.{digits}f}", *cells])
        for t, *cells in zip(times, *columns.values(), strict=True)
    ]
    header = ",".join([str(unit), *(f"{name}_raw" for name in columns)])
    return Made(parse_bench(file), file, "\n".join([header, *rows]) + "\n")


def _cells(random: np.random.RandomState, is_input: bool, converter: str) -> list[str]:
    """Raw values: a walk with noise, jumps to the rails, gaps and what is no number."""
    walk = 2000 + np.cumsum(random.standard_normal(ROWS) * 60) + 3 * random.standard_normal(ROWS)
    raw = np.clip(np.round(walk), 0, 4095)
    raw[random.rand(ROWS) < 0.02] = random.choice([0, 4095, 1023, 5000])
    if "codes" in converter:
        raw = np.minimum(raw, 4095) * 16
    digits = 1 if is_input else 0
    if is_input:
        raw = np.round(raw * 2) / 2 - (1000 if random.rand() < 0.3 else 0)
    cells = [f"{value + 0.0:.{digits}f}" for value in raw]
    for i in np.flatnonzero(random.rand(ROWS) < 0.02):
        cells[i] = str(random.choice(["", "nan", "x"]))
    return cells
