"""Candidates for a fixed resistor as a picture: counts and resolution over the range."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from matplotlib.axes import Axes

from ..core.choose.candidates import Leg
from ..core.choose.resistor import ResistorChoice
from ..core.laws.circuit import Divider
from ..core.model.channel import Channel
from ..core.model.ruler import Ruler
from ..core.model.text import shown
from ..core.model.units import symbol
from .style import AMBER, BLUE, GREY, JET, RED, plain

_STYLES = ((BLUE, "-", 2.4), (BLUE, "--", 1.6), (AMBER, "-", 1.6))


def draw_choose(ax: Axes, beneath: Axes, channel: Channel, choice: ResistorChoice) -> Axes:
    """Counts over the value (above), and what one count is worth (beneath), for the best three
    (blue, amber), the present part (red) and the optimum (grey)."""
    values = np.linspace(choice.low, choice.high, 400)
    rows = list(zip(choice.candidates, ("best", "second", "third"), _STYLES, strict=False))
    drawn = [(c, name, style) for c, name, style in rows]
    drawn += [(choice.optimum, "optimum", (GREY, ":", 2.0))]
    drawn += [(choice.present, "present", (RED, "-", 2.0))]
    for c, name, (color, dash, width) in drawn:
        ruler = _with_known(channel, c.known, choice.leg)
        counts = np.asarray(ruler.inverse(values), dtype=np.float64)
        resolution = np.abs(np.asarray(ruler.slope(counts), dtype=np.float64))
        label = f"{name}: {shown(float(f'{c.known:.3g}'), 'ohm')}"
        ax.plot(values, counts, dash, color=color, linewidth=width, label=label)
        beneath.plot(values, resolution, dash, color=color, linewidth=width)
    for one in (plain(ax), plain(beneath)):
        if choice.at is not None:
            one.axvline(choice.at, color=JET, linewidth=1, linestyle=(0, (4, 4)))
    unit = symbol(choice.unit)
    ax.set_ylabel("count", fontsize=13, color=JET)
    beneath.set_ylabel(f"one count ({unit or '1'})", fontsize=13, color=JET)
    beneath.set_xlabel(channel.title, fontsize=13, color=JET)
    beneath.set_ylim(0, 1.1 * float(max(c.resolution for c, _, _ in drawn)))
    ax.set_title(choice.gain, fontsize=14, loc="left", color=JET)
    ax.legend(fontsize=11, frameon=False)
    return ax


def _with_known(channel: Channel, known: float, leg: Leg) -> Ruler:
    laws = [
        replace(law, known=known, sensor=leg) if isinstance(law, Divider) else law
        for law in channel.chain.laws
    ]
    return Ruler(tuple(laws))
