"""Preferred values: what resistors can be bought."""

from __future__ import annotations

import math

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array
from ..result import refuses

# E3 to E24 are older than the rule that the finer ones follow: they are a list.
_E24 = "1.0 1.1 1.2 1.3 1.5 1.6 1.8 2.0 2.2 2.4 2.7 3.0 "
_E24 += "3.3 3.6 3.9 4.3 4.7 5.1 5.6 6.2 6.8 7.5 8.2 9.1"
_EXCEPTION = {9.19: 9.2}  # of E192, by the standard
DECADES = {f"E{n}": tuple(map(float, _E24.split()[:: 24 // n])) for n in (3, 6, 12, 24)}
DECADES |= {
    f"E{n}": tuple(_EXCEPTION.get(v, v) for v in (round(10 ** (i / n), 2) for i in range(n)))
    for n in (48, 96, 192)
}


@refuses
def preferred(series: str, low: float, high: float) -> Array:
    """The values of a series from low to high, ascending.

    Parameters
    ----------
    series : str
        "E3", "E6", "E12", "E24", "E48", "E96" or "E192".
    low : float
        Smallest value.
    high : float
        Largest value.

    Returns
    -------
    Array
        Values, shape (n,).

    Raises
    ------
    ParameterError
        For another one, or ends that are no range above 0.

    Notes
    -----
    Source: IEC 60063.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.preferred("E12", 1000, 2000).tolist()
    [1000.0, 1200.0, 1500.0, 1800.0]
    """
    if series not in DECADES:
        raise ParameterError("series", series, f"{', '.join(DECADES)}")
    if not 0 < low <= high < math.inf:
        raise ParameterError("between", (low, high), "two values above 0, the low one first")
    powers = range(math.floor(math.log10(low)), math.floor(math.log10(high)) + 1)
    # Through text, so that 4.7 · 10³ is 4700 and not 4700.000000000001.
    values = np.array([float(f"{d}e{power}") for power in powers for d in DECADES[series]])
    return values[(values >= low * (1 - 1e-12)) & (values <= high * (1 + 1e-12))]
