"""Numbers as a person writes them in a worked solution."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from .units import symbol

#: Significant digits of a number in a worked solution, if no line needs more.
USUAL_DIGITS = 6
_digits: ContextVar[int] = ContextVar("digits", default=USUAL_DIGITS)


@contextmanager
def written_with(digits: int) -> Iterator[None]:
    """Write numbers with so many significant digits."""
    before = _digits.set(digits)
    try:
        yield
    finally:
        _digits.reset(before)


def digits_written() -> int:
    """With how many significant digits numbers are being written."""
    return _digits.get()


def finer(value: float, condition: float) -> str:
    """As `number`, with more digits for a step whose error grows by `condition` in the next."""
    more = math.ceil(math.log10(condition)) if 1 < condition < math.inf else 0
    with written_with(min(17, _digits.get() + more)):
        return number(value)


def as_finely(value: float, other: float) -> str:
    """As `number`, with as many decimals as `number` gives the other one."""
    known = value and other and math.isfinite(value) and math.isfinite(other)
    more = _exponent(value) - _exponent(other) if known else 0
    with written_with(min(17, max(1, _digits.get() + more))):
        return number(value)


def _exponent(value: float) -> int:
    """The power of ten of the first digit that is written."""
    return int(f"{value:.{_digits.get() - 1}e}".partition("e")[2])


def number(value: float) -> str:
    """Six significant digits, or as many as `written_with` says; no exponent where plain digits
    are short: `4700`, `0.00335402`."""
    if math.isnan(value):
        return "no value"
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    if value == 0:
        return "0"
    if 1e6 <= abs(value) < 1e10 and float(value).is_integer():
        return f"{value:.0f}".replace("-", "−")
    return plain(value).replace("-", "−")


def plain(value: float) -> str:
    """As a program reads it: with as many digits as `number` writes."""
    return f"{float(value):.{_digits.get()}g}"


def shown(value: float, unit: str | None = None, decimals: int | None = None) -> str:
    """A number with its unit, as in `4700 Ω`; with `decimals`, to that many places."""
    if math.isnan(value):
        return "no value"
    if decimals is None or math.isinf(value):
        text = number(value)
    else:
        text = fixed(value, decimals).replace("-", "−")
    return f"{text} {symbol(unit)}".rstrip()


def fixed(value: float, decimals: int) -> str:
    """To a number of decimals, rounded correctly from the exact value; never a negative zero."""
    text = f"{value:.{decimals}f}"
    return text[1:] if text.startswith("-") and not text.strip("-0.") else text


def bracketed(value: float) -> str:
    """As `number`, in brackets where a sign in front would confuse: `(−5)`."""
    return f"({number(value)})" if value < 0 else number(value)


def nearest(word: str, known: Iterable[str]) -> str:
    """`; nearest is 'known'` where one of the known words is close, else the whole list."""
    import difflib  # only an error needs it

    known = sorted(known)
    close = difflib.get_close_matches(word, known, n=1, cutoff=0.6)
    if close:
        return f"the nearest right name is {close[0]!r}"
    return "right would be one of: " + ", ".join(known)
