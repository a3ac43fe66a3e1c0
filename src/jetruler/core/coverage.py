"""Student's t, for every interval: the one place that knows it."""

from __future__ import annotations

import numpy as np

from .arrays import Array


def coverage_factor(dof: float, level: float = 0.95) -> float:
    """The factor of a two-sided interval of this level, for so many degrees of freedom.

    Student's; the normal one for infinite degrees of freedom, NaN for none.
    Source: JCGM 100:2008, G.3 and table G.2.
    """
    return float(coverage_factors(np.array(float(dof)), level))


def coverage_factors(dof: Array, level: float = 0.95) -> Array:
    """The same for many degrees of freedom at once."""
    from scipy.special import ndtri, stdtrit  # 0.2 s, worth it only where an interval is wanted

    p = 0.5 + level / 2
    known = np.isinf(dof)
    with np.errstate(all="ignore"):
        factors: Array = np.where(known, ndtri(p), stdtrit(np.where(known, 1.0, dof), p))
    return factors
