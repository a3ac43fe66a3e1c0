"""`fit`: a law from marks, with what to mind about it."""

from __future__ import annotations

from collections.abc import Sequence

from ..arrays import Array
from ..errors import JetRulerError
from ..model.law import Law
from ..model.ruler import Ruler
from ..model.text import nearest
from ..model.units import TEMPERATURES, symbol
from .fitting import HIGHEST_DEGREE, LAWS, FitRequest, behind, check_numbers, fitted
from .marks import Marks, MarksError
from .result import Fit
from .simpler import advised


def fit(
    marks: Marks | Sequence[Sequence[float]] | Array,
    law: str = "line",
    *,
    before: Ruler | Law | None = None,
    then: Ruler | Law | None = None,
    degree: int | None = None,
    robust: bool = False,
    unit: str | None = None,
    like: Law | None = None,
    limits: tuple[float, float] | None = None,
) -> Fit:
    """Fit a law to marks by least squares of its errors, in the unit of its result.

    marks: `Marks`, pairs (raw, true) or triples with the standard uncertainty of true, by which
    they are then weighted. law: "line", "offset" (the gain stays), "polynomial", "power",
    "table", "beta" or "steinhart-hart" (c stays 0, or as it was, with two marks). before, then:
    the laws between raw and this law, and between this law and true. degree: of a polynomial;
    None takes the lowest that predicts left-out marks as well as any. robust: set outliers aside
    and name them, instead of bending to them. unit: of the result. like: a law of the same kind
    whose other parameters stay (t0, x0, c, gain, unit). limits: of the result, to warn of
    extrapolation.

    Parameters' uncertainties come from the marks' own, where given (widened if the marks scatter
    more than that, by a chi-square test at 5 %), else from the scatter.
    Raises `MarksError` for marks that cannot give this law, `JetRulerError` for one that cannot
    be fitted. Source: JCGM 100:2008, H.3; Gauss and Newton's method.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.fit([(198, 0), (2050, 49.6), (3904, 100)])
    >>> found.law.name, round(found.parameters[1].value, 5)
    ('line', -5.4671)
    """
    before = None if before is None else Ruler.of(before)
    then = None if then is None else Ruler.of(then)
    if law not in LAWS:
        raise JetRulerError(f"law: found {law!r}; {nearest(law, LAWS)}")
    if degree is not None and law != "polynomial":
        raise JetRulerError(f"degree: found {degree}; only a polynomial has one")
    if degree is not None and not 1 <= degree <= HIGHEST_DEGREE:
        raise JetRulerError(f"degree: found {degree}; 1 to {HIGHEST_DEGREE} is right")
    used = Marks.of(marks)
    takes = before.gives if before else None
    if law in ("beta", "steinhart-hart"):
        found = unit or getattr(like, "unit", None) or used.true_unit
        unit = found if found in TEMPERATURES else "degC"
        if takes not in (None, "ohm"):
            raise MarksError(f"{law} takes Ω, but the laws before it give {symbol(takes)}")
    elif then is None:
        unit = unit or used.true_unit
    gives = (then.gives if then is not None else None) or unit
    used = used.in_units((before.takes if before else used.raw_unit,), gives)
    stays = like is not None and like.name in ("line", "power")
    own_takes = getattr(like, "takes", None) if stays else None
    said = None if law not in ("beta", "steinhart-hart") and unit == takes else unit
    wanted = FitRequest(law, degree, robust, said, unit, own_takes, like, before, then)
    x = behind(before, used)
    check_numbers(wanted, used, x)
    result = fitted(wanted, used, x)
    return advised(result, wanted, limits)
