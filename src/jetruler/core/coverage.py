"""Student's t, for every interval: the one place that knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING, overload

import numpy as np

if TYPE_CHECKING:
    from .arrays import Array


@overload
def coverage_factor(dof: float, level: float = ...) -> float: ...
@overload
def coverage_factor(dof: Array, level: float = ...) -> Array: ...
def coverage_factor(dof: float | Array, level: float = 0.95) -> float | Array:
    """The factor of a two-sided interval of this level, for one or many degrees of freedom.

    Student's; the normal one for infinite degrees of freedom, NaN for none.
    Source: JCGM 100:2008, G.3 and table G.2.
    """
    from scipy.special import ndtri, stdtrit  # 0.2 s, worth it only where an interval is wanted

    p = 0.5 + level / 2
    known = np.isinf(dof)
    with np.errstate(all="ignore"):
        factor = np.where(known, ndtri(p), stdtrit(np.where(known, 1.0, dof), p))
    return factor if isinstance(dof, np.ndarray) else float(factor)
