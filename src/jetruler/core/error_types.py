"""The errors a user can act on. Each says the place, what was expected and what was found."""

from __future__ import annotations

import warnings


def is_safe(sign: str) -> bool:
    """Whether a sign can do nothing to what is around it: no control code, no half of a pair,
    none that turns the direction of what follows or begins a line. Joiners, which some scripts
    need within words, are safe."""
    return sign.isprintable() or sign in "\u200c\u200d\u00ad\u3000\u00a0"


def printable(text: str, most: int | None = None) -> str:
    """A text of somebody else as a terminal may show it: no control codes, on one line, cut after
    `most` characters."""
    if most is not None and len(text) > most:
        text = f"{text[:most]}… ({len(text)} characters)"
    if text.isprintable():
        return text
    return "".join(c if is_safe(c) else ascii(c)[1:-1] for c in text)


class JetRulerError(ValueError):
    """Base of every error that a user's input can cause.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Shunt(ohms=0)
    ... except jr.JetRulerError as error:
    ...     print(error)
    ohms: expected a value above 0, found 0
    """

    def __str__(self) -> str:
        return "\n".join(map(printable, super().__str__().split("\n")))


class QuantityError(JetRulerError):
    """A text that does not read as a quantity, or as one of another unit.

    Parameters
    ----------
    found : str
        The text.
    expected : str
        What was expected.
    why : str, default ""
        The reason, where it is not plain.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.quantity("warm")
    ... except jr.errors.QuantityError as error:
    ...     print(error)
    expected a quantity, as in "4k7", "4.7 kohm", "3.3 V ± 1 %" or "25 degC", found 'warm'
    """

    def __init__(self, found: str, expected: str, why: str = "") -> None:
        self.found, self.expected, self.why = found, expected, why
        super().__init__(expected_found(expected, found, why))


class PackageError(JetRulerError, ImportError):
    """A package that is needed and not installed; the message says the line that installs it.

    Examples
    --------
    >>> import jetruler as jr
    >>> print(jr.errors.PackageError("to_frame", "pandas", "pandas"))
    to_frame needs pandas, which is not installed: pip install 'jet-ruler[pandas]'
    """

    def __init__(self, what: str, package: str, extra: str = "") -> None:
        line = f"pip install 'jet-ruler[{extra}]'" if extra else f"pip install {package}"
        super().__init__(f"{what} needs {package}, which is not installed: {line}")


class KindError(JetRulerError, TypeError):
    """An argument of another kind than the one that is expected.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Counts(8)("200")
    ... except jr.errors.KindError as error:
    ...     print(str(error).partition(", found ")[2])
    str ('200'); a text is read with float()
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
    """A parameter that makes no sense: its name, what was expected and what was found.

    Parameters
    ----------
    name : str
        Name of the parameter.
    found : object
        What it was given.
    expected : str
        What was expected, such as "a number above 0".
    why : str, default ""
        The reason, where it is not plain.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.Clamp(5, 3)
    ... except jr.errors.ParameterError as error:
    ...     print(error)
    low: expected a value below high, 3, found 5
    """

    def __init__(self, name: str, found: object, expected: str, why: str = "") -> None:
        self.name, self.found, self.expected, self.why = name, found, expected, why
        super().__init__(f"{name}: {self.sentence}")

    @property
    def sentence(self) -> str:
        """The message without the name."""
        return expected_found(self.expected, self.found, self.why)

    @property
    def right(self) -> str:
        """The old name of `expected`, until the next version."""
        warnings.warn("right is called expected now", DeprecationWarning, stacklevel=2)
        return self.expected


def expected_found(expected: str, found: object, why: str = "") -> str:
    """The sentence of every message: what was expected, what was found and, if need be, why."""
    return f"expected {expected}, found {as_written(found)}" + (f": {why}" if why else "")


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
        if not errors:  # what is refused would be taken for sound
            raise AssertionError("not accepted (no reason given)")
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
    none.csv: expected a log, found no such file
    """
