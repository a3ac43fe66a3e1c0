"""`compare`: two series of values, or marks, against each other."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..containers import to_array
from ..error_types import JetRulerError
from ..laws.linear import Line
from ..numerics import Array
from ..result import refuses
from ..ruler.quantity import amount
from ..ruler.units import many, number, significant
from ..series import FEWEST_PAIRS
from ..uncertainty.contributions import resolution_of
from .comparison import LIMITS, NOISY, Comparison, PairsError, Verdict, aligned
from .questions import Answers, Scale, answers, scale_of, without_spikes


@refuses
def compare(
    a: Any,
    b: Any,
    *,
    times: Any = None,
    times_b: Any = None,
    unit: str | None = None,
    within: float | None = None,
    resolution: float = 0.0,
    ordered: bool = True,
    interval: float = float("nan"),
    missing: int = 0,
    u_common: Any = 0.0,
    names: tuple[str, str] = ("first", "second"),
) -> Comparison:
    """Compare two series of values in the same unit; the second one is treated as the reference.

    Parameters
    ----------
    a, b : object
        Values of equal length, paired as they are, NaN left out; with `times` and `times_b`
        paired in time.
    times : object, optional
        Times of a, in s; with `times_b` the two are paired by time.
    times_b : object, optional
        Times of b, in s.
    unit : str, optional
        Unit of both.
    within : float, optional
        The difference that matters; without it, `resolution` (what one count or one decimal is
        worth).
    resolution : float, default 0.0
        What one count or one decimal is worth: the difference that matters if `within` is not
        said.
    ordered : bool, default True
        The pairs follow one another in time, so that neighbours may depend on each other; marks
        do not.
    interval : float, default float("nan")
        Seconds between two pairs, to tell a delay in seconds too.
    missing : int, default 0
        Samples of the second beside which the first had no value, if they were left out before;
        where they are more than a tenth, no verdict is given.
    u_common : float, default 0.0
        Standard uncertainty of an error that all values of b share, as those of one reference
        thermometer do.
    names : tuple[str, str], default ("first", "second")
        What messages call the two.

    Returns
    -------
    Comparison
        Statistics, verdict, and the correction if one is called for.

    Raises
    ------
    PairsError
        For fewer than three pairs.
    JetRulerError
        For lengths that do not fit.

    Notes
    -----
    The model is a = truth + offset + gain part + bend + drift + noise, delayed, and b = truth +
    noise. Offset, gain, bend, delay and drift are columns of one fit, and are judged together: two
    equal sensors get any verdict but "agree" or "cannot tell" once in a hundred comparisons. The
    95 % interval of the bias is Student's, from the long-run variance of the differences. Gain and
    bend are sought along the mean of both, each weighted with the noise of the other. Spikes are
    left out, and a steady hum is taken out of both. Fewer than 20 pairs in time order get no
    verdict, since their dependence on one another is unknown; marks may be fewer.

    Sources: limits of agreement, Bland and Altman, Lancet 327 (1986) 307; long-run variance,
    Lazarus et al., J. Business and Economic Statistics 36 (2018) 541; errors in both, Fuller,
    Measurement Error Models, 1.3.

    Examples
    --------
    >>> import jetruler as jr
    >>> import numpy as np
    >>> true = np.linspace(0, 100, 40)
    >>> found = jr.compare(true + 0.5, true)
    >>> round(float(found.bias), 3)
    0.5
    """
    within = amount("within", within, unit, difference=True)
    if within is not None and not within > 0:
        raise JetRulerError(f"within: expected a difference above 0, found {within:g}")
    a, b, lost = _paired(a, b, times, times_b)
    lost += missing
    if a.size < 3:
        raise PairsError(f"{names[0]} and {names[1]}: expected three pairs or more, found {a.size}")
    u_common = amount("u_common", u_common, unit, difference=True)
    if not 0 <= u_common < np.inf:
        raise JetRulerError(f"u_common: expected 0 or more, found {u_common:g}")
    left_out = 0
    with np.errstate(all="ignore"):  # numbers too small for their squares
        if ordered:
            a, b, left_out = without_spikes(a, b)
        scale = scale_of(a, b, ordered)
        found = answers(a, b, ordered, u_common)
    relevant = within or resolution or 1e-12 * float(np.max(np.abs(b)))
    verdicts = _Verdicts(found, scale, relevant, within, ordered)
    verdict, reason, correction = verdicts.verdict(lost / (lost + a.size))
    return Comparison(
        names,
        unit,
        a=found.a,
        b=found.b,
        n=a.size - left_out,
        independent=found.independent,
        bias=found.bias,
        half_width=found.half_width,
        largest_bias=abs(found.bias) + found.bound,
        standard_deviation=float((a - b).std(ddof=1)),
        noise_a=found.noise[0],
        noise_b=found.noise[1],
        limits=_limits(a - b),
        limits_aligned=_limits(found.a - found.b),
        gain=found.gain,
        gain_half_width=found.gain_half_width,
        middle=found.middle,
        bend=found.bend if verdict == "bend" else 0.0,
        drift=found.drift if verdict == "drift" else 0.0,
        scale=None if scale is None else (scale.low, scale.high),
        delay=found.delay,
        within=relevant,
        bearable=within or NOISY * resolution or float("inf"),
        verdict=verdict,
        reason=reason,
        correction=correction,
        notes=_notes(found, verdict, names, interval, left_out),
    )


def _paired(a: Any, b: Any, times: Any, times_b: Any) -> tuple[Array, Array, int]:
    """The values that both have, paired in time where times are given, and how many of b are
    alone."""
    a, b = (_row(values) for values in (a, b))
    if times is not None and times_b is not None:
        at = [_row(t) for t in (times, times_b)]
        _, a, b = aligned(at[0], a, at[1], b)
    elif a.size != b.size:
        raise JetRulerError(
            f"compare: expected as many values of both, without times, found {a.size} and {b.size}"
        )
    both = np.isfinite(a) & np.isfinite(b)
    return a[both], b[both], int(np.count_nonzero(np.isfinite(b) & ~both))


def _row(values: Any) -> Array:
    return to_array(values)[0].astype(np.float64).reshape(-1)


def _notes(
    found: Answers, verdict: str, names: tuple[str, str], interval: float, left_out: int
) -> tuple[str, ...]:
    """What is to be said of a delay, of spikes, and of what looks alike."""
    notes = []
    if left_out:
        notes.append(f"{many(left_out, 'pair')} with a spike in one of the two left out")
    if found.hums:
        notes.append("a hum in the differences was taken out of both")
    if samples := abs(found.delay.samples):
        late, early = names if found.delay.samples > 0 else names[::-1]
        behind = f"{number(significant(samples))} samples"
        if np.isfinite(interval):
            behind += f" ({number(significant(samples * interval))} s)"
        notes.append(f"{late} follows {early} {behind} later: compared without that part")
    elif verdict == "offset" and {"gain", "drift", "delay"} & set(found.asked) == {"gain"}:
        rate = float(np.polyfit(np.arange(found.b.size), found.b, 1)[0])
        if rate and (delay := abs(found.bias / rate)) < 0.1 * found.b.size:
            text = f"a delay of {number(significant(delay))} samples would look the same"
            notes.append(f"both move at a steady rate: {text}")
    return tuple(notes)


def _limits(d: Array) -> tuple[float, float]:
    """Between which 95 % of normal differences lie."""
    reach = LIMITS * float(d.std(ddof=1))
    return float(d.mean()) - reach, float(d.mean()) + reach


#: The fraction of samples without which no verdict is given.
MISSING = 0.1


@dataclass(frozen=True)
class _Verdicts:
    """What the answers to all questions come to."""

    found: Answers
    scale: Scale | None
    relevant: float
    within: float | None
    ordered: bool

    def verdict(self, missing: float) -> tuple[Verdict, str, Line | None]:
        """The verdict, why nothing can be told, and the line that brings a to b.
        missing: the fraction of samples that have no value."""
        found, within = self.found, self.within
        if missing > MISSING:
            return "cannot tell", f"{100 * missing:.0f} % of the samples have no value", None
        if self.scale is not None and self.scale.is_far:
            return "reversed" if self.scale.reversed else "gain", "", None
        if not np.isfinite(found.half_width):
            far = max(map(abs, _limits(found.a - found.b)))
            if within is not None and far <= within and found.a.size >= FEWEST_PAIRS:
                return "agree", "", None  # whatever their mean is known to
            return "cannot tell", self._too_little(found.run.needed), None
        if "bend" in found.sure and found.bend > self.relevant:
            return "bend", "", None
        reach = float(np.max(np.abs(found.b - found.middle)))
        if "gain" in found.sure and abs(found.gain) * reach > self.relevant:
            # d = bias + g · (w b + (1 − w) a − middle), solved for b.
            g, w = found.gain, found.weight
            gain = (1.0 - g * (1.0 - w)) / (1.0 + g * w)
            return "gain", "", Line(gain, float(found.b.mean() - gain * found.a.mean()))
        if "drift" in found.sure and abs(found.drift) > self.relevant:
            return "drift", "", None
        if "offset" in found.sure and abs(found.bias) > self.relevant:
            return "offset", "", Line(1.0, -found.bias)
        if within is not None and abs(found.bias) + found.bound > within:
            room = max(within - abs(found.bias), 0.1 * within)
            needed = np.ceil(found.a.size * (found.bound / room) ** 2)
            return "cannot tell", self._too_little(int(needed)), None
        return "agree", "", None

    def _too_little(self, needed: int) -> str:
        """Why there is no interval, or too wide a one."""
        n = self.found.a.size
        step = 10 ** max(len(str(needed)) - 2, 0)
        needed = -(-max(needed, n + 1) // step) * step  # two digits, and more than there are
        if self.ordered and self.found.run.time > 0.1 * n and n >= 50:
            return (
                f"drift: the differences wander so slowly that about {needed} pairs would be needed"
            )
        return f"too few: about {needed} pairs would do"


def relevant_difference(channel: Channel, values: Array) -> float:
    """What one count is worth at a channel's values (their median), or one of its last decimals,
    whichever is more; 0 where neither is known."""
    values = values[np.isfinite(values)]
    count = math.nan
    try:
        counts = channel.chain.inverse(values[:: max(1, values.size // 1000)])
        slopes = np.abs(channel.chain.slope(counts)) * resolution_of(channel.chain)
        if np.isfinite(slopes).any():
            count = float(np.median(slopes[~np.isnan(slopes)]))
    except JetRulerError:  # it turns back: no count can be named
        pass
    places = 10.0**-channel.decimals if channel.decimals is not None else 0.0
    return max(0.0 if math.isnan(count) else count, places)
