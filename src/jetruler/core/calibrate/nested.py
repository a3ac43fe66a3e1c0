"""Whether a law with more parameters is worth them, and whether errors are as marks say."""

from __future__ import annotations

import numpy as np

from .fit_result import Fit
from .regression import accounted

#: Errors so small against the truth are rounding of the arithmetic.
_ROUNDING = 1e-11


def is_exact(fit: Fit) -> bool:
    """Whether nothing but the rounding of the arithmetic is left of the errors."""
    return fit.largest <= _ROUNDING * float(np.max(np.abs(fit.marks.true), initial=0.0))


def as_uncertain(fit: Fit, chance: float = 0.05) -> bool:
    """Whether the uncertainties of the marks account for the errors, where they are given."""
    known = fit.marks.u_true is not None
    return not known or accounted(fit.degrees * fit.scatter**2, fit.degrees, chance)


def predicts_better(simple: Fit, rich: Fit, chance: float) -> bool:
    """Whether a law predicts marks that it has not seen better than a simpler one, and its
    parameters reduce the squares by more than those of any law would with this chance.

    Both are fitted to the same marks. Where the uncertainties of the marks account for the errors
    of the rich law, the reduction is judged by them (chi-square), else by those errors (F).
    Source: the extra sum of squares, Draper and Smith, Applied Regression Analysis, ch. 6.
    """
    from scipy.special import chdtrc, fdtrc

    more = simple.degrees - rich.degrees
    if is_exact(simple) or more < 1 or not rich.degrees:
        return False
    if not rich.rms_left_out < simple.rms_left_out:
        return False
    if is_exact(rich):
        return True
    squares = [fit.degrees * fit.scatter**2 for fit in (simple, rich)]
    gained = squares[0] - squares[1]
    if rich.marks.u_true is not None and as_uncertain(rich):
        return bool(chdtrc(more, max(gained, 0.0)) < chance)
    ratio = gained / more / rich.scatter**2
    return bool(fdtrc(more, rich.degrees, max(ratio, 0.0)) < chance)
