"""A comparison as a picture: the difference against the mean."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from ..core.calibrate.comparison import LIMITS, Comparison
from ..core.model.units import symbol
from .style import AMBER, BLUE, GREY, JET, RED, plain

#: So many dots are drawn at most; a longer log is thinned evenly.
DOTS = 5000


def draw_compare(ax: Axes, found: Comparison) -> Axes:
    """Each pair's difference over its mean (grey), the bias with its 95 % interval (blue), the
    limits of agreement (red dashes), and the gain part (amber) where it can be told."""
    plain(ax)
    thin = slice(None, None, max(1, -(-found.n // DOTS)))
    alpha = 0.5 if found.n > 200 else 0.9
    size = 4 if found.n > 200 else 8
    mean = found.mean
    ax.plot(
        mean[thin], found.difference[thin], "o", color=GREY, alpha=alpha, markersize=size, mew=0
    )
    if np.isfinite(found.half_width):
        ax.axhspan(
            found.bias - found.half_width,
            found.bias + found.half_width,
            color=BLUE,
            alpha=0.3,
            lw=0,
        )
    ax.axhline(found.bias, color=BLUE, linewidth=2.2)
    ax.axhline(0, color=JET, linewidth=1)
    low, high = float(mean.min()), float(mean.max())
    for end in found.limits:
        ax.axhline(end, color=RED, linewidth=1.4, linestyle=(0, (6, 4)))
    if np.isfinite(found.gain) and abs(found.gain) > found.gain_half_width:
        ends = np.array([low, high])
        ax.plot(ends, found.bias + found.gain * (ends - found.middle), color=AMBER, linewidth=2.4)
    room = 0.18 * (high - low) or 1.0
    ax.set_xlim(low - 0.05 * room, high + room)
    labels = [(found.bias, "bias", BLUE)]
    labels += [
        (end, f"{side}{LIMITS} s", RED) for end, side in zip(found.limits, "−+", strict=True)
    ]
    for value, name, color in labels:
        ax.annotate(
            f"{name} {found.shown(value)}",
            (high + room, value),
            textcoords="offset points",
            xytext=(-4, 5),
            ha="right",
            fontsize=12,
            color=color,
        )
    first, second = found.names
    unit = f" ({symbol(found.unit)})" if found.unit else ""
    ax.set_ylabel(f"{first} − {second}{unit}", fontsize=13, color=JET)
    ax.set_xlabel(f"mean of both{unit}", fontsize=13, color=JET)
    ax.set_title(_title(found.sentence), fontsize=14, loc="left", color=JET)
    return ax


def _title(sentence: str) -> str:
    """The verdict without what it advises."""
    return sentence.split(":")[0]
