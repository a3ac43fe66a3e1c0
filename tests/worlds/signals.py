"""Raw samples and what is wrong with them: the truth, before anything reads it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from .chains import Edge

MOVES = ("rest", "ramp", "wave", "steps", "knob", "rails")
NOISES = ("white", "hum", "slow", "heavy", "none")
FAULTS = ("open", "short", "dropout", "spike", "glued", "off-scale", "saturation", "stuck",
          "floating", "shifted")  # fmt: skip


@dataclass
class Signal:
    """The samples of a column.

    raw: the sampled values; NaN where there is none; cells: as texts. valid: those that figures
    are taken from. noise: its standard deviation in raw units, where one figure says it.
    """

    raw: Any
    cells: list[str]
    move: str
    noises: str
    noise: float
    fault: str = ""
    rows: list[int] = field(default_factory=list)
    """Where the fault is."""
    valid: Any = None


def signal(
    random: np.random.RandomState,
    edge: Edge,
    ends: tuple[float, float],
    rows: int,
    missing: tuple[str, ...] = ("nan",),
    fault: str = "",
    move: str = "",
) -> Signal:
    """Samples that move between two raw values, as far as a sound sensor goes."""
    move = move or str(random.choice(MOVES[:-1]))
    kind = str(random.choice(NOISES, p=(0.5, 0.1, 0.15, 0.15, 0.1)))
    if move == "rest" and kind == "none":
        kind = "white"  # one value in all of a log is what a dead input gives
    low, high = ends
    if fault in ("stuck", "floating", "spike"):
        kind, move = "white", str(random.choice(["rest", "ramp", "wave"]))
    if fault == "shifted":
        move = "wave"
    if fault in ("glued", "off-scale") and move == "rails":
        move = "ramp"
    t = np.arange(rows)
    part = _moved(random, move, t)
    level = low + (high - low) * part
    if move == "rails":
        level = edge.lowest + edge.span * np.clip(1.1 * part - 0.05, 0, 1)
    deviation = 0.0 if kind == "none" else edge.step * 10 ** random.uniform(-0.5, 0.8)
    if fault in ("stuck", "spike"):
        deviation = edge.step * random.uniform(1.5, 4)
    # A zone is a quarter of the travel; one of four deviations flickers, and is told so.
    deviation = min(deviation, 0.01 * edge.span, 0.02 * (high - low))
    values = level + deviation * _noise(random, kind, t)
    if move == "rails":
        at_stop = (part < 0.05) | (part > 0.95)
        values = np.where(at_stop, level, values)
    if fault == "saturation":
        peak = level.max() - 0.2 * (level.max() - level.min())
        values = np.where(level > peak, values + 2 * edge.span * (level - peak) / edge.span, values)
        values = np.maximum(
            values + (edge.highest - np.quantile(values, 0.9)), edge.lowest + 0.02 * edge.span
        )
    if move != "rails" and fault != "saturation":  # what is sound reaches no rail
        room = max(0.01 * edge.span, 2 * edge.step)
        values = np.clip(values, low - room, high + room)
    raw = _sampled(edge, np.clip(values, edge.lowest, edge.highest))
    found = Signal(raw, [], move, kind, deviation, fault)
    bad = _break(random, edge, found, fault)
    found.cells = [edge.cell(x) if x == x else str(random.choice(missing)) for x in bad]
    found.raw = bad
    inside = (bad >= edge.lowest) & (bad <= edge.highest)
    found.valid = bad[inside]
    return found


def _moved(random: np.random.RandomState, move: str, t: Any) -> Any:
    n = t.size
    if move == "rest":
        return np.full(n, random.uniform(0.1, 0.9))
    if move == "ramp":
        low, high = sorted(random.uniform(0, 1, 2)) if random.rand() < 0.5 else (0.0, 1.0)
        return np.linspace(low, high, n)
    if move == "wave":
        period = random.uniform(0.3, 1.5) * n
        return 0.5 + random.uniform(0.2, 0.5) * np.sin(2 * np.pi * t / period + random.rand())
    if move == "steps":
        levels = random.uniform(0.05, 0.95, 6)
        return np.repeat(levels, -(-n // 6))[:n]
    turns = np.array([0, 0.18, 0.3, 0.5, 0.62, 0.8, 0.9, 1]) * n
    return np.interp(t, turns, [0, 0, 1, 1, 0, 0, 0.5, 0.5])


def _noise(random: np.random.RandomState, kind: str, t: Any) -> Any:
    """Noise of standard deviation 1."""
    white = random.standard_normal(t.size)
    if kind == "hum":
        return 1.27 * np.sin(2 * np.pi * 0.217 * t + random.rand()) + 0.44 * white
    if kind == "slow":
        found = np.empty_like(white)
        found[0] = white[0]
        for i in range(1, t.size):
            found[i] = 0.9 * found[i - 1] + 0.436 * white[i]
        return found
    if kind == "heavy":
        return random.laplace(size=t.size) / np.sqrt(2)
    return white * (kind != "none")


def _sampled(edge: Edge, values: Any) -> Any:
    if edge.unit != "count":
        return np.round(np.round(values / edge.step) * edge.step, edge.digits) + 0.0
    codes = np.round((values - edge.lowest) / edge.step).astype(np.int64)
    return np.clip(edge.code(codes), edge.lowest, edge.highest).astype(np.float64)


def _break(random: np.random.RandomState, edge: Edge, of: Signal, fault: str) -> Any:
    """The samples with the fault in them; its rows are noted."""
    raw, n = of.raw.copy(), of.raw.size
    start = int(random.randint(n // 4, n // 2))
    if fault in ("open", "short"):
        of.rows = list(range(start, start + int(random.randint(20, 60))))
        raw[of.rows] = edge.highest if fault == "open" else edge.lowest
    elif fault == "dropout":
        of.rows = sorted(random.choice(n - 2, max(2, n // 50), replace=False) + 1)
        raw[of.rows] = np.nan
    elif fault == "spike":
        of.rows = sorted({int(r) // 7 * 7 + 3 for r in random.randint(5, n - 12, 3)})
        away = 0.25 * edge.span
        sign = np.where(raw[of.rows] > edge.lowest + 0.5 * edge.span, -1, 1)
        raw[of.rows] = _sampled(edge, raw[of.rows] + sign * away)
    elif fault == "glued":
        of.rows = [start]
        raw[start] = float(f"{edge.highest:.0f}{max(1, abs(raw[start])):.0f}")
    elif fault == "off-scale":
        of.rows = [start]
        raw[start] = (
            edge.highest + 3 * edge.span if random.rand() < 0.5 else edge.lowest - edge.span
        )
        raw[start] = np.round(raw[start], edge.digits)
    elif fault == "saturation":
        of.rows = np.flatnonzero(raw >= edge.highest).tolist()
    elif fault == "stuck":
        of.rows = list(range(start, start + 200))
        raw[of.rows] = raw[start]
    elif fault == "floating":
        of.rows = list(range(n // 3, n))
        wild = edge.lowest + edge.span * (0.5 + 0.15 * random.standard_normal(len(of.rows)))
        raw[of.rows] = _sampled(edge, np.clip(wild, edge.lowest, edge.highest))
    return raw
