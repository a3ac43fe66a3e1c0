"""Numbers as a person writes them in a worked solution."""

from __future__ import annotations

import math
from collections.abc import Iterable

from .units import symbol


def number(value: float) -> str:
    """Six significant digits, no exponent where plain digits are short: `4700`, `0.00335402`."""
    if math.isnan(value):
        return "no value"
    if math.isinf(value):
        return "∞" if value > 0 else "−∞"
    if value == 0:
        return "0"
    if 1e6 <= abs(value) < 1e10 and float(value).is_integer():
        return f"{value:.0f}".replace("-", "−")
    return f"{value:.6g}".replace("-", "−")


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
