"""The errors a user can act on. Each message names the place, what was found and what is right."""

from __future__ import annotations


def printable(text: str, most: int | None = None) -> str:
    """A text of somebody else as a terminal may show it: no control codes, on one line, cut after
    `most` characters."""
    if most is not None and len(text) > most:
        text = f"{text[:most]}… ({len(text)} characters)"
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else ascii(c)[1:-1] for c in text)


class JetRulerError(ValueError):
    """Base of every error that a user's input can cause.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Shunt(ohms=0)
    ... except jr.JetRulerError as error:
    ...     print(error)
    ohms: found 0; a value above 0 is right
    """

    def __str__(self) -> str:
        return "\n".join(map(printable, super().__str__().split("\n")))


class QuantityError(JetRulerError):
    """A text that does not read as a quantity, or as one of another unit.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.quantity("warm")
    ... except jr.errors.QuantityError as error:
    ...     print(error)
    'warm' does not read as a quantity; write it like "4k7", "4.7 kohm", "3.3 V ± 1 %" or "25 degC"
    """


class UnitError(JetRulerError):
    """Two laws joined where the units do not fit.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Shunt(150) >> jr.Beta(1e4, 3435)
    ... except jr.errors.UnitError as error:
    ...     print(error)
    shunt gives A, but beta, which follows it, takes Ω
    """


class ParameterError(JetRulerError):
    """A parameter that makes no sense: its name, what was found and what would be right.

    Parameters
    ----------
    name : str
        Of the parameter.
    found : object
        What it was given.
    right : str
        What would be right, as a half sentence.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Clamp(5, 3)
    ... except jr.errors.ParameterError as error:
    ...     print(error)
    low: found 5; a value below high, 3
    """

    def __init__(self, name: str, found: object, right: str) -> None:
        self.name, self.found, self.right = name, found, right
        super().__init__(f"{name}: found {as_written(found)}; {right}")


#: Characters of what was found that a message shows.
LONGEST = 200


def as_written(found: object) -> str:
    """What was found, as its writer wrote it: lists as lists, not too long."""
    try:
        text = repr(_as_lists(found))
    except (ValueError, RecursionError):  # a number of thousands of digits; a list in itself
        text = f"a {type(found).__name__} that is too long to show"
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}… ({len(text)} characters)"


def _as_lists(found: object) -> object:
    return [_as_lists(one) for one in found] if isinstance(found, tuple | list) else found


class ParameterErrors(JetRulerError):  # noqa: N818 - it is a collection, told by its plural
    """Several errors at once, so that nobody has to correct one to see the next."""

    def __init__(self, errors: list[ParameterError]) -> None:
        self.errors = tuple(errors)
        super().__init__("; ".join(str(m) for m in errors))


class LogError(JetRulerError):
    """A log that cannot be read or written: its name and one sentence.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.look("none.csv")
    ... except jr.errors.LogError as error:
    ...     print(error)
    none.csv: there is no such file; a log is wanted
    """
