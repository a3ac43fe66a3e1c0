"""A fit as a picture: marks on the curve with its interval, and the errors beneath."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes

from ..core.arrays import Array
from ..core.calibrate.fit_result import Fit
from ..core.calibrate.in_channel import Calibration, calibration_title
from ..core.model.units import symbol
from .style import AMBER, BLUE, GREY, JET, RED, plain

_DASHES = (0, (5, 4))


def draw_fit(ax: Axes, found: Calibration) -> Axes:
    """Marks (amber; outliers as a red cross) on the fitted curve, its 95 % interval shaded, and
    where it extrapolates in dashes."""
    plain(ax)
    fit = found.fit
    raw = _places(fit, found.channel.limits)
    values = np.asarray(fit.ruler(raw), dtype=np.float64)
    low, high = fit.covers
    inside = (raw >= low) & (raw <= high)
    ax.plot(raw, values, color=BLUE, linewidth=1.6, linestyle=_DASHES, label="beyond the marks")
    ax.plot(raw[inside], values[inside], color=BLUE, linewidth=2.4, label=fit.law.name)
    width = fit.interval(raw)
    if np.isfinite(width).any():
        ax.fill_between(
            raw, values - width, values + width, color=BLUE, alpha=0.22, linewidth=0, label="95 %"
        )
    ax.errorbar(
        fit.marks.raw[fit.kept],
        fit.marks.true[fit.kept],
        None if fit.marks.u_true is None else 2 * fit.marks.u_true[fit.kept],
        fmt="o",
        color=AMBER,
        ecolor=JET,
        markeredgecolor=JET,
        markersize=9,
        capsize=3,
        label="marks",
        zorder=5,
    )
    out = list(fit.outliers)
    if out:
        ax.plot(
            fit.marks.raw[out], fit.marks.true[out], "X", color=RED, markersize=11, label="outlier"
        )
    if found.channel.limits is not None:
        for end in found.channel.limits:
            ax.axhline(end, color=RED, linewidth=1, linestyle=(0, (6, 4)))
    ax.set_ylabel(_axis("true", fit.marks.true_unit), fontsize=13, color=JET)
    ax.set_title(calibration_title(found), fontsize=15, loc="left", color=JET)
    ax.legend(fontsize=11, frameon=False)
    return ax


def draw_residuals(ax: Axes, found: Calibration) -> Axes:
    """Errors of the marks (amber), left out in turn (open) and before the fit (grey crosses)."""
    plain(ax)
    fit = found.fit
    raw, kept = fit.marks.raw, fit.kept
    grid = _places(fit, found.channel.limits)
    width = fit.interval(grid)
    if np.isfinite(width).any():
        ax.fill_between(grid, -width, width, color=BLUE, alpha=0.22, linewidth=0)
    ax.axhline(0, color=JET, linewidth=1)
    ax.plot(raw[kept], found.error_before[kept], "x", color=GREY, markersize=8, label="before")
    ax.plot(
        raw[kept], fit.left_out[kept], "o", mfc="none", mec=JET, markersize=10, label="left out"
    )
    ax.plot(raw[kept], fit.error[kept], "o", color=AMBER, mec=JET, markersize=8, label="error")
    for i in fit.outliers:  # too far off to be drawn to scale
        ax.annotate(
            f"{fit.error[i]:+.3g} ✗".replace("-", "−"),
            (fit.marks.raw[i], 0.97),
            xycoords=("data", "axes fraction"),
            ha="center",
            va="top",
            fontsize=12,
            color=RED,
        )
    ax.set_ylabel(_axis("read − true", fit.marks.true_unit), fontsize=13, color=JET)
    ax.set_xlabel(_axis("raw", fit.marks.raw_unit), fontsize=13, color=JET)
    ax.legend(fontsize=11, frameon=False, ncols=3, loc="best")
    return ax


def _places(fit: Fit, limits: tuple[float, float] | None) -> Array:
    """Raw places from end to end of the marks, a little beyond, and as far as the limits."""
    low, high = float(fit.marks.raw.min()), float(fit.marks.raw.max())
    ends = [low, high]
    if limits is not None:
        with np.errstate(all="ignore"):
            reach = np.asarray(fit.ruler.inverse(np.array(limits)), dtype=np.float64)
        ends += reach[np.isfinite(reach)].tolist()
    else:
        room = 0.06 * (high - low) or 1.0
        ends += [low - room, high + room]
    return np.linspace(min(ends), max(ends), 800)


def _axis(name: str, unit: str | None) -> str:
    return f"{name} ({symbol(unit)})" if unit else name
