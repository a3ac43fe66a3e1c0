"""The draws of a Monte Carlo run, with the interval that holds them and the first-order one."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from ..core.model.units import symbol
from ..core.uncertainty.simulate import Simulation
from .style import AMBER, BLUE, JET, RED, plain


def draw_draws(ax: Axes, found: Simulation) -> Axes:
    """Draw how often each value came up."""
    plain(ax)
    ax.hist(
        found.values, bins=min(200, max(20, int(found.values.size**0.5))), color=BLUE, alpha=0.8
    )
    first = found.budget
    level = f"{100 * first.level:g} %"
    for ends, color, style, label in (
        (found.interval, AMBER, "-", f"{level} of the draws"),
        ((first.value - first.expanded, first.value + first.expanded), RED, "--", "first order"),
    ):
        for end in ends:
            ax.axvline(end, color=color, linestyle=style, linewidth=2, label=label)
            label = "_"
    ax.axvline(found.mean, color=JET, linewidth=1.2, label="mean")
    unit = symbol(found.unit)
    ax.set_xlabel(f"value ({unit})" if unit else "value", fontsize=12, color=JET)
    ax.set_ylabel(f"draws, of {found.values.size}", fontsize=12, color=JET)
    ax.legend(fontsize=11, frameon=False, ncols=3, loc="lower right", bbox_to_anchor=(1.0, 1.0))
    low, high = np.quantile(found.values, [0.0005, 0.9995])
    ax.set_xlim(low - 0.1 * (high - low), high + 0.1 * (high - low))
    return ax
