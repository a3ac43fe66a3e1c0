"""A chain as stacked number lines, one a law, with the range's ends and one reading traced."""

from __future__ import annotations

import math
import textwrap
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from matplotlib.axes import Axes

from ..core.arrays import Array
from ..core.model.channel import Channel
from ..core.model.text import number, shown
from ..core.model.ticks import raw_samples, round_values
from ..core.model.units import symbol
from .style import AMBER, BLUE, GREY, JET

#: Characters of a worked line that the number lines are wide.
WIDE = 135


@dataclass(frozen=True)
class _Stage:
    """One number line: its values over the raw range, and where a value stands from 0 to 1."""

    values: Array
    unit: str | None
    low: float
    high: float
    logarithmic: bool

    @classmethod
    def of(cls, values: Array, unit: str | None) -> _Stage:
        there = values[np.isfinite(values)]
        low, high = float(there.min()), float(there.max())
        if low == high:
            low, high = low - 0.5, high + 0.5
        bent = unit == "ohm" and low > 0 and high > 50 * low
        return cls(values, unit, low, high, bent)

    def place(self, value: float) -> float:
        if self.logarithmic:
            return float(np.log(value / self.low) / np.log(self.high / self.low))
        return (value - self.low) / (self.high - self.low)

    def holds(self, value: float) -> bool:
        """Whether a value stands on the line."""
        slack = 1e-9 * (self.high - self.low)
        return self.low - slack <= value <= self.high + slack

    def ticks(self) -> list[float]:
        if not self.logarithmic:
            return round_values(self.low, self.high, 10)
        powers = range(int(np.floor(np.log10(self.low))), int(np.ceil(np.log10(self.high))) + 1)
        return [
            m * 10.0**p for p in powers for m in (1, 2, 5) if self.low <= m * 10.0**p <= self.high
        ]


def draw_stages(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Draw every joint of the chain as a number line over the range of the channel.

    The range is that of the counts whose result lies within the channel's limits. The reading at
    the count `at` (the middle of the range if left out) is traced from line to line.
    """
    raw = _range(channel, at)
    ruler = channel.chain
    at = float(raw[raw.size // 2]) if at is None else at
    trace = ruler.trace(at)
    reading = [at, *(step.result for step in trace.steps)]
    stages = [_Stage.of(raw, ruler.takes)]
    x = raw
    with np.errstate(all="ignore"):
        for law, unit in zip(ruler.laws, ruler.units[1:], strict=True):
            x = law.forward(x)
            stages.append(_Stage.of(x, unit))
    for i, stage in enumerate(stages):
        _number_line(ax, stage, -i, reading[i])
    for i, (above, below) in enumerate(pairwise(stages)):
        for end in (0, -1):
            _joined(
                ax,
                above,
                below=below,
                start=above.values[end],
                end=below.values[end],
                y=-i,
                color=GREY,
            )
        _joined(ax, above, below=below, start=reading[i], end=reading[i + 1], y=-i, color=AMBER)
        step = trace.steps[i]
        ax.text(0.0, -i - 0.5, step.law, fontsize=12, fontweight="bold", color=JET, va="center")
        beside = max(0.13, 0.03 + 0.0115 * len(step.law))
        line = textwrap.fill(step.line, int(WIDE * (1.1 - beside)), subsequent_indent="    ")
        worked = ax.text(beside, -i - 0.5, line, fontsize=9, color=JET, va="center", bbox=_PAPER)
        worked.set_in_layout(False)
    for i, (stage, value) in enumerate(zip(stages, reading, strict=True)):
        _reading(ax, stage, value, -i)
    ax.set_xlim(-0.12, 1.12)
    ax.set_ylim(-len(stages) + 0.55, 0.45)
    ax.set_axis_off()
    title = channel.title + (f": {channel.about}" if channel.about else "")
    ax.set_title(title, color=JET, fontsize=15, loc="left")
    return ax


_PAPER = {"facecolor": "#fffdf7", "edgecolor": "none", "alpha": 0.85, "boxstyle": "round,pad=0.2"}


def _range(channel: Channel, at: float | None) -> Array:
    """The counts whose result is there and within the limits, and on as far as the reading."""
    raw = raw_samples(channel.ruler)
    values = channel.ruler(raw)
    inside = np.isfinite(values)
    if channel.limits is not None:
        inside &= (values >= channel.limits[0]) & (values <= channel.limits[1])
    if not inside.any():
        return raw
    if at is not None:
        seen = raw[inside]
        low, high = min(float(seen[0]), at), max(float(seen[-1]), at)
        inside = (raw >= low) & (raw <= high) & np.isfinite(values)
    return raw[inside]


def _number_line(ax: Axes, stage: _Stage, y: float, reading: float) -> None:
    ax.hlines(y, 0, 1, color=JET, linewidth=2.2)
    places = [stage.place(value) for value in stage.ticks()]
    ax.vlines(places, y - 0.05, y + 0.05, color=JET, linewidth=1)
    beside = 0.025 + 0.0058 * len(shown(reading, stage.unit))  # half the reading's own label
    reads = stage.place(reading) if np.isfinite(reading) else math.inf
    shown_at: list[float] = []
    for place, value in zip(places, stage.ticks(), strict=True):
        clear = abs(place - reads) > beside
        if clear and all(abs(place - other) > 0.055 for other in [*shown_at, 0.0, 1.0]):
            shown_at.append(place)
            ax.text(
                place, y + 0.08, number(value), fontsize=8, color=GREY, ha="center", va="bottom"
            )
    for place, value, side in ((0, stage.low, "right"), (1, stage.high, "left")):
        offset = -0.01 if side == "right" else 0.01
        ax.text(place + offset, y, f"{value:.4g}", fontsize=11, color=BLUE, ha=side, va="center")
    unit = (symbol(stage.unit) or "value") + (" (log)" if stage.logarithmic else "")
    ax.text(1.01, y - 0.17, unit, fontsize=12, fontweight="bold", color=JET, va="center")


def _joined(
    ax: Axes, above: _Stage, below: _Stage, start: float, end: float, y: float, color: str
) -> None:
    if above.holds(start) and below.holds(end):
        width = 2.5 if color == AMBER else 1.0
        ax.plot([above.place(start), below.place(end)], [y, y - 1], color=color, linewidth=width)


def _reading(ax: Axes, stage: _Stage, value: float, y: float) -> None:
    if not stage.holds(value):  # a reading without a value, outside what is drawn
        return
    place = stage.place(value)
    ax.plot([place], [y], "o", color=AMBER, markeredgecolor=JET, markersize=9, zorder=5)
    ax.text(
        place,
        y + 0.2,
        shown(value, stage.unit),
        fontsize=12,
        fontweight="bold",
        color=JET,
        ha="center",
        va="center",
        zorder=6,
        bbox={"facecolor": AMBER, "edgecolor": "none", "boxstyle": "round,pad=0.25"},
    )
