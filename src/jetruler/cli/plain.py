"""The trade's plain form of signs that a stream's encoding has not: Ω as ohm, − as -, ° as deg.

`codecs` knows it as an error handler, `PLAIN`; standard output and standard error are given it.
"""

from __future__ import annotations

import codecs
import re
import unicodedata

#: The error handler's name.
PLAIN = "jetruler.plain"
#: ASCII, as an encoding.
ASCII = "jetruler_ascii"

_SIGNS = dict(zip("−–—‐‑·×∙•✗", "-----*x**x", strict=True))
_SIGNS |= dict(zip("▕▏▼▲█░▒▓″′‘’“”", "||v^#.:#\"'''\"\"", strict=True))
_SIGNS |= dict(
    pair.split(maxsplit=1)  # µ and Ω are there twice: as a unit's sign and as a letter
    for pair in [
        "± +/-",
        "° deg",
        "Ω ohm",
        "Ω ohm",
        "µ u",
        "μ u",
        "… ...",
        "÷ /",
        "→ ->",
        "← <-",
        "≤ <=",
        "≥ >=",
        "≠ !=",
        "≈ ~",
        "∞ inf",
        "∥ ||",
        "√ sqrt",
        "Σ sum",
        "Δ d",
        "ß ss",
        "æ ae",
        "ø o",
        "ᵢ i",
    ]
)


#: What stands in the same cell of a table, and the spaces up to the next one.
_REST_OF_CELL = re.compile(r"((?:[!-~]| (?! )){0,40})(  +)")


def _superscript(sign: str) -> bool:
    return unicodedata.decomposition(sign).startswith("<super>")


def plain_form(sign: str) -> str:
    """One sign in ASCII; what has no plain form is escaped, so that it can still be told.

    Examples
    --------
    >>> [plain_form(sign) for sign in "Ω−═┴é温"]
    ['ohm', '-', '=', '+', 'e', '\\\\u6e29']
    """
    if sign.isascii():
        return sign
    if sign in _SIGNS:
        return _SIGNS[sign]
    name = unicodedata.name(sign, "")
    if name.startswith("BOX DRAWINGS"):
        across = any(way in name for way in ("HORIZONTAL", "LEFT", "RIGHT"))
        down = any(way in name for way in ("VERTICAL", "UP", "DOWN"))
        return "+" if across and down else "|" if down else "=" if "DOUBLE" in name else "-"
    if name.startswith("GREEK") and "LETTER " in name:
        return name.rpartition("LETTER ")[2].partition(" ")[0].lower().replace("lamda", "lambda")
    if "BLOCK" in name or name.startswith(("BRAILLE", "QUADRANT")):
        return "#"
    letters = unicodedata.normalize("NFKD", sign)
    bare = "".join(plain_form(c) for c in letters if not unicodedata.combining(c) and c != sign)
    return bare or ascii(sign)[1:-1]


def _replace(error: UnicodeError) -> tuple[str | bytes, int]:
    """Put the plain form in; the spaces behind it give way, so that columns stay where they are."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    text, at, end = error.object, error.start, error.end
    made = ""
    while at < end:
        sign = text[at]
        if _superscript(sign):  # 10⁻³ is 10^-3, also where the encoding has ³
            made += "^"
            while at < len(text) and _superscript(text[at]):
                made += plain_form(text[at]) if text[at] != "⁻" else "-"
                at += 1
            continue
        made += plain_form(sign)
        at += 1
    end = max(at, end)
    cell = _REST_OF_CELL.match(text, end)
    longer = len(made) - (end - error.start)
    if cell is None or longer <= 0:
        return made, end
    return made + cell[1], cell.end(1) + min(longer, len(cell[2]) - 1)


codecs.register_error(PLAIN, _replace)


def _named_ascii(name: str) -> codecs.CodecInfo | None:
    """ASCII by another name: Click takes a stream in ASCII for a mistake and writes UTF-8."""
    if name != ASCII:
        return None
    known = codecs.lookup("ascii")
    return codecs.CodecInfo(
        known.encode,
        known.decode,
        incrementalencoder=known.incrementalencoder,
        incrementaldecoder=known.incrementaldecoder,
        name=ASCII,
    )


codecs.register(_named_ascii)
