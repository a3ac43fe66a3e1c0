"""Results as pictures: a fit, a comparison, a budget, draws of a Monte Carlo run, candidates for a
resistor."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from matplotlib.axes import Axes

from ..core.bench.channel import Channel
from ..core.calibrate.comparison import LIMITS, Comparison
from ..core.calibrate.fit_result import Fit
from ..core.calibrate.in_channel import Calibration, calibration_title
from ..core.choose.resistor import Leg, ResistorChoice, divider_of
from ..core.numerics import Array
from ..core.ruler.raw_range import raw_samples
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import number, raw_symbol, shown, significant, symbol, with_uncertainty
from ..core.uncertainty.budget import expanded_uncertainty
from ..core.uncertainty.budget_result import Budget
from ..core.uncertainty.contributions import conditions_of, contributions
from ..core.uncertainty.simulate import Simulation
from .style import AMBER, BLUE, GREY, JET, RED, few_ticks, inches_of, plain, titled

_DASHES = (0, (5, 4))
#: Raw values over which a band is drawn: more than its picture has pixels.
DOTS_ACROSS = 1024


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
    titled(ax, calibration_title(found), 15)
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


#: This many dots are drawn at most; a longer log is thinned evenly.
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
    titled(ax, _title(found.sentence), 14)
    return ax


def _title(sentence: str) -> str:
    """The verdict without what it advises."""
    return sentence.split(":")[0]


#: Lines of the sources, the largest first: distinguished by colour and dash.
_STYLES = ((BLUE, "-"), (RED, "-"), (AMBER, "-"), (GREY, "-"), (BLUE, "--"), (RED, "--"))


def draw_shares(ax: Axes, budgets: list[Budget]) -> Axes:
    """Each source's fraction of the combined variance, a group of bars a source, a bar a budget."""
    plain(ax)
    names = [row.source for row in budgets[0].rows]
    thick = 0.8 / len(budgets)
    colors = (BLUE, AMBER, RED, GREY)
    for i, found in enumerate(budgets):
        shares = np.array([100 * found.fraction(row) for row in found.rows])
        places = np.arange(len(names)) + (i - 0.5 * (len(budgets) - 1)) * thick
        value = with_uncertainty(found.value, found.expanded_uncertainty, found.unit)
        label = f"at {number(found.at)}: {value} ({number(100 * found.level)} %)"
        bars = ax.barh(places, shares, 0.92 * thick, color=colors[i % len(colors)], label=label)
        ax.bar_label(
            bars, [f"{s:.1f} %" if s < 10 else f"{s:.0f} %" for s in shares], padding=4, fontsize=10
        )
    ax.set_yticks(range(len(names)), names, fontsize=12)
    ax.set_ylim(len(names) - 0.4, -0.6)
    ax.set_xlim(0, 112)
    ax.set_xlabel("fraction of the combined variance (%)", fontsize=12, color=JET)
    ax.legend(fontsize=12, frameon=False, loc="lower left", bbox_to_anchor=(-0.02, 1.0))
    ax.grid(False, axis="y")
    return ax


def draw_band(ax: Axes, channel: Channel, budgets: list[Budget]) -> Axes:
    """The curve with its expanded uncertainty as a band; readings as dots."""
    plain(ax)
    raw, value, width = _over_the_range(channel)
    ax.fill_between(raw, value - width, value + width, color=BLUE, alpha=0.35, linewidth=0)
    ax.plot(raw, value, color=BLUE, linewidth=1.6)
    for i, found in enumerate(budgets):
        color = (BLUE, AMBER, RED, GREY)[i % 4]
        ax.plot([found.at], [found.value], "o", color=color, mec=JET, markersize=9, zorder=5)
    ax.set_ylabel(channel.title, fontsize=13, color=JET)
    few_ticks(ax).set_xlabel(raw_symbol(channel.ruler.takes), fontsize=12, color=JET)
    return ax


def draw_sources(ax: Axes, channel: Channel, level: float = 0.95) -> Axes:
    """The expanded uncertainty over the value (jet), and what each of the six largest sources
    would leave alone."""
    plain(ax)
    raw, value, width = _over_the_range(channel)
    given = conditions_of(channel, level=level)
    rows = contributions(channel.ruler, raw, given)
    there = np.isfinite(width)
    if not there.any():
        return ax
    ax.plot(value[there], width[there], color=JET, linewidth=2.6, label="all together")
    with np.errstate(all="ignore"):
        sizes = [float(np.nanmax(np.where(there, row.effect, np.nan))) for row in rows]
    order = [i for i in np.argsort(sizes)[::-1].tolist() if sizes[i] > 0][: len(_STYLES)]
    for i, (color, dash) in zip(order, _STYLES, strict=False):
        alone = 1.96 * rows[i].effect
        ax.plot(value[there], alone[there], dash, color=color, linewidth=1.6, label=rows[i].source)
    ax.set_ylim(0, 1.08 * float(np.nanmax(width[there])) or 1.0)
    ax.set_xlabel(channel.title, fontsize=12, color=JET)
    ax.set_ylabel(
        f"± at {number(100 * level)} % ({symbol(channel.unit) or '1'})", fontsize=12, color=JET
    )
    columns = max(1, min(2, int(inches_of(ax)[0] / 2.5)))
    ax.legend(fontsize=9, frameon=False, ncols=columns, loc="lower left", bbox_to_anchor=(0.0, 1.0))
    return ax


def _over_the_range(channel: Channel) -> tuple[Array, Array, Array]:
    """Counts, values and expanded uncertainties, within the channel's limits."""
    raw = raw_samples(channel.ruler, DOTS_ACROSS).astype(np.float64)
    value = np.asarray(channel.ruler(raw), dtype=np.float64)
    width = expanded_uncertainty(channel, raw)
    if channel.limits is not None:
        low, high = channel.limits
        outside = ~((value >= low) & (value <= high))
        value, width = np.where(outside, np.nan, value), np.where(outside, np.nan, width)
    return raw, value, width


def draw_draws(ax: Axes, found: Simulation) -> Axes:
    """Draw how often each value came up."""
    plain(ax)
    ax.hist(
        found.values, bins=min(200, max(20, int(found.values.size**0.5))), color=BLUE, alpha=0.8
    )
    first = found.budget
    level = f"{number(100 * first.level)} %"
    for ends, color, style, label in (
        (found.interval, AMBER, "-", f"{level} of the draws"),
        (
            (first.value - first.expanded_uncertainty, first.value + first.expanded_uncertainty),
            RED,
            "--",
            "first order",
        ),
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


_CANDIDATE_STYLES = ((BLUE, "-", 2.4), (BLUE, "--", 1.6), (AMBER, "-", 1.6))


def draw_choose(ax: Axes, beneath: Axes, channel: Channel, choice: ResistorChoice) -> Axes:
    """Counts over the value (above), and what one count is worth (beneath), for the best three
    (blue, amber), the present part (red) and the optimum (grey)."""
    values = np.linspace(choice.low, choice.high, 400)
    rows = list(
        zip(choice.candidates, ("best", "second", "third"), _CANDIDATE_STYLES, strict=False)
    )
    drawn = [(c, name, style) for c, name, style in rows]
    drawn += [(choice.optimum, "optimum", (GREY, ":", 2.0))]
    drawn += [(choice.present, "present", (RED, "-", 2.0))]
    for c, name, (color, dash, width) in drawn:
        ruler = _with_known(channel, c.known, choice.leg)
        counts = np.asarray(ruler.inverse(values), dtype=np.float64)
        resolution = np.abs(np.asarray(ruler.slope(counts), dtype=np.float64))
        label = f"{name}: {shown(significant(c.known, 3), 'ohm')}"
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
    titled(ax, choice.gain, 14)
    ax.legend(fontsize=11, frameon=False)
    return ax


def _with_known(channel: Channel, known: float, leg: Leg) -> Ruler:
    index, divider = divider_of(channel)
    laws = channel.chain.laws
    return Ruler((*laws[:index], replace(divider, known=known, sensor=leg), *laws[index + 1 :]))
