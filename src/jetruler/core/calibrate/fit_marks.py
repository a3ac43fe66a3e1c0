"""`fit`: a law from marks, with what to mind about it."""

from __future__ import annotations

from collections.abc import Sequence

from ..arrays import Array
from ..error_types import JetRulerError
from ..laws import law_named, law_names
from ..model.law import Law
from ..model.ruler import Ruler
from ..model.text import nearest
from ..model.units import symbol
from .fit_result import Fit
from .fitting import OFFSET, FitRequest, behind, fitted
from .marks import Marks, MarksError
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

    Parameters
    ----------
    marks : Marks | Sequence[Sequence[float]] | Array
        `Marks`, pairs (raw, true) or triples with the standard uncertainty of true, by which
        they are then weighted.
    law : str, default "line"
        "line", "offset" (the gain stays), "polynomial", "power", "table", "beta",
        "steinhart-hart" (c stays 0, or as it was, with two marks) or "steinhart-hart-extended".
    before, then : Ruler | Law, optional
        The laws between raw and this law, and between this law and true.
    degree : int, optional
        Of a polynomial; None takes the lowest that none beats: one that predicts left-out marks
        better and reduces the squares of the errors beyond chance (4 % in all).
    robust : bool, default False
        Set outliers aside and name them, instead of bending to them. They are told by the marks'
        uncertainties where those are given, else by what the majority says.
    unit : str, optional
        Of the result.
    like : Law, optional
        A law of the same kind whose other parameters stay (t0, x0, c, gain, unit).
    limits : tuple[float, float], optional
        Of the result, to warn of extrapolation.

    Returns
    -------
    Fit
        The law, its parameters with their uncertainties, and the errors at the marks.

    Raises
    ------
    MarksError
        For marks that cannot give this law.
    JetRulerError
        For one that cannot be fitted.

    Notes
    -----
    Parameters' uncertainties come from the marks' own, where given (widened if the marks scatter
    more than that, by a chi-square test at 5 %), else from the scatter.

    Source: JCGM 100:2008, H.3; Gauss and Newton's method.

    Examples
    --------
    >>> import jetruler as jr
    >>> found = jr.fit([(198, 0), (2050, 49.6), (3904, 100)])
    >>> found.law.name, round(found.parameters[1].value, 5)
    ('line', -5.4671)
    """
    before = None if before is None else Ruler.of(before)
    then = None if then is None else Ruler.of(then)
    kind = kind_of_fit(law)
    if degree is not None and not kind.fit_degrees:
        raise JetRulerError(f"degree: found {degree}; only a polynomial has one")
    if degree is not None and not 1 <= degree <= kind.fit_degrees:
        raise JetRulerError(f"degree: found {degree}; 1 to {kind.fit_degrees} is right")
    used = Marks.of(marks)
    takes = before.gives if before else None
    if kind.fit_takes is not None and takes not in (None, kind.fit_takes):
        given = f"the laws before it give {symbol(takes)}"
        raise MarksError(f"{law} takes {symbol(kind.fit_takes)}, but {given}")
    if kind.fit_gives:
        found = unit or getattr(like, "unit", None) or used.true_unit
        unit = found if found in kind.fit_gives else kind.fit_gives[0]
    elif then is None:
        unit = unit or used.true_unit
    gives = (then.gives if then is not None else None) or unit
    used = used.in_units((before.takes if before else used.raw_unit,), gives)
    own_takes = getattr(like, "takes", None) if kind.fit_takes is None else None
    said = None if not kind.fit_gives and unit == takes else unit
    wanted = FitRequest(
        law,
        degree,
        robust=robust,
        unit=said,
        gives=unit,
        takes=own_takes,
        like=like,
        before=before,
        then=then,
    )
    x = behind(before, used)
    result = fitted(wanted, used, x)
    return advised(result, wanted, limits)


def kind_of_fit(law: str) -> type[Law]:
    """The class of the law of this name. Raises `JetRulerError` for one that has no fit."""
    try:
        if (kind := law_named("line" if law == OFFSET else law)).fitted_name:
            return kind
    except KeyError:  # none of that name
        pass
    known = [one for one in law_names() if law_named(one).fitted_name] + [OFFSET]
    raise JetRulerError(f"law: found {law!r}; {nearest(law, known)}")
