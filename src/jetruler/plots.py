"""Pictures. Every function takes a thing and, if wanted, a Matplotlib Axes, and returns the Axes.

In: a channel, a ruler, a survey, a fit, a comparison, a budget. Out: what is drawn on the Axes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from .core.bench.channel import Channel, channel_of
from .core.calibrate.comparison import Comparison
from .core.calibrate.in_channel import Calibration
from .core.error_types import ParameterError
from .core.ruler.ruler import Law, Ruler
from .core.survey.survey import Survey
from .core.uncertainty.budget import budget
from .core.uncertainty.budget_result import Budget
from .core.uncertainty.simulate import Simulation
from .show.draw_results import (
    draw_band,
    draw_compare,
    draw_draws,
    draw_fit,
    draw_residuals,
    draw_shares,
    draw_sources,
)
from .show.draw_ruler import draw_curve, draw_ruler, draw_slope, draw_stages
from .show.figures import draw_histogram
from .show.schematic import draw_circuit
from .show.style import suited

if TYPE_CHECKING:
    from matplotlib.axes import Axes


__all__ = [
    *("band", "calibration", "circuit", "comparison", "curve", "draws", "histogram"),
    *("residuals", "ruler", "shares", "slope", "sources", "stages"),
]
Thing = Channel | Ruler | Law


def _axes(ax: Axes | None) -> Axes:
    """The Axes to draw on: a new one, in a figure that pyplot shows, if none is given. Raises
    `ParameterError` for anything but one Axes with straight edges."""
    import matplotlib.pyplot as plt

    if ax is None:
        return plt.subplots(figsize=(10, 6), layout="constrained")[1]
    if getattr(ax, "name", "") != "rectilinear":
        expected = "one Matplotlib Axes with straight edges, such as axes[0] of plt.subplots(2)"
        found = getattr(ax, "name", "") or type(ax).__name__
        raise ParameterError("ax", found, expected)
    return ax


def ruler(thing: Thing, at: float | None = None, ax: Axes | None = None) -> Axes:
    """The ruler with its two edges.

    Parameters
    ----------
    thing : Channel | Ruler | Law
        What is drawn.
    at : float, optional
        A raw value, for a cursor.
    ax : Axes, optional
        Where it is drawn; a new one if left out.

    Returns
    -------
    Axes
        Yours to change.

    Examples
    --------
    >>> from jetruler import Counts, Line, plots
    >>> ax = plots.ruler(Counts(12) >> Line(0.5), at=1880)
    """

    return suited(draw_ruler(_axes(ax), channel_of(thing), at))


def curve(thing: Thing, at: float | None = None, ax: Axes | None = None) -> Axes:
    """The values over the raw edge. Parameters and result as for `ruler`."""

    return suited(draw_curve(_axes(ax), channel_of(thing), at))


def slope(thing: Thing, ax: Axes | None = None) -> Axes:
    """What one count is worth over the raw edge. Parameters and result as for `ruler`."""

    return suited(draw_slope(_axes(ax), channel_of(thing)))


def stages(thing: Thing, at: float | None = None, ax: Axes | None = None) -> Axes:
    """Every law from raw to true, with its worked line. Parameters and result as for `ruler`."""

    return suited(draw_stages(_axes(ax), channel_of(thing), at))


def circuit(thing: Thing, at: float | None = None, ax: Axes | None = None) -> Axes:
    """The schematic that the laws describe, from the sensor to the converter's pin, with voltages
    and currents at a raw value. Parameters and result as for `ruler`."""

    return suited(draw_circuit(_axes(ax), channel_of(thing), at))


def calibration(found: Calibration, ax: Axes | None = None) -> Axes:
    """The marks on the fitted curve, and the curve that was there.

    Parameters
    ----------
    found : Calibration
        What `jr.calibrate` returns.
    ax : Axes, optional
        Where it is drawn; a new one if left out.

    Returns
    -------
    Axes
        Yours to change.
    """

    return suited(draw_fit(_axes(ax), found))


def residuals(found: Calibration, ax: Axes | None = None) -> Axes:
    """The errors at the marks, and the interval of the law. As `calibration`."""

    return suited(draw_residuals(_axes(ax), found))


def draws(found: Simulation, ax: Axes | None = None) -> Axes:
    """How often each value came up in a Monte Carlo run, with its interval and the first-order one.
    Result as for `ruler`."""

    return suited(draw_draws(_axes(ax), found))


def comparison(found: Comparison, ax: Axes | None = None) -> Axes:
    """The differences of two sensors over their mean, with bias and limits. As `calibration`."""

    return suited(draw_compare(_axes(ax), found))


def shares(budgets: Budget | Sequence[Budget], ax: Axes | None = None) -> Axes:
    """The fraction of each source, for one budget or some of one channel. As `calibration`."""

    return suited(
        draw_shares(_axes(ax), [budgets] if isinstance(budgets, Budget) else list(budgets))
    )


def band(thing: Thing, at: Sequence[float] = (), ax: Axes | None = None) -> Axes:
    """The values with their expanded uncertainty over the raw edge; at: raw values with a mark.
    Otherwise as `ruler`."""

    channel = channel_of(thing)
    return suited(draw_band(_axes(ax), channel, [budget(channel, count) for count in at]))


def sources(thing: Thing, level: float = 0.95, ax: Axes | None = None) -> Axes:
    """The effect of each source of uncertainty over the raw edge. As `ruler`."""

    return suited(draw_sources(_axes(ax), channel_of(thing), level))


def histogram(survey: Survey, name: str = "counts", ax: Axes | None = None) -> Axes:
    """How often each raw value came up, of a survey or a column of `jr.look`. As `calibration`."""

    return suited(draw_histogram(_axes(ax), name, survey))
