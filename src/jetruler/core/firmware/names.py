"""Names and texts that are safe in every target."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable

from ..errors import ParameterError
from ..model.units import for_column

RESERVED = {
    "auto",
    "break",
    "case",
    "char",
    "const",
    "continue",
    "default",
    "do",
    "double",
    "else",
    "enum",
    "extern",
    "float",
    "for",
    "goto",
    "if",
    "inline",
    "int",
    "long",
    "register",
    "restrict",
    "return",
    "short",
    "signed",
    "sizeof",
    "static",
    "struct",
    "switch",
    "typedef",
    "union",
    "unsigned",
    "void",
    "volatile",
    "while",
    "and",
    "as",
    "assert",
    "class",
    "def",
    "del",
    "elif",
    "except",
    "false",
    "finally",
    "from",
    "global",
    "import",
    "in",
    "is",
    "lambda",
    "none",
    "nonlocal",
    "not",
    "or",
    "pass",
    "raise",
    "true",
    "try",
    "with",
    "yield",
    "n",
    "x",
    "i",
    "j",
    "h",
    "w",
    "d",
    "k",
    "z",
    "was",
    "abs",
    "exp",
    "log",
    "sqrt",
    "floor",
    "ceil",
    "trunc",
    "sin",
    "cos",
    "tan",
    "asin",
    "acos",
    "atan",
    "by",
    "to",
    "of",
    "then",
    "end_if",
    "end_while",
    "var",
    "function",
    "real",
    "dint",
    "lreal",
    "bool",
    "array",
    "program",
    "mod",
    "main",
    "math",
    "asm",
}


def safe_name(name: str) -> str:
    """A name as C, Python and structured text all take it: lower-case ASCII."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    text = re.sub(r"_+", "_", re.sub(r"[^a-z0-9_]", "_", plain)).strip("_")
    if not text or text[0].isdigit():
        text = f"ch_{text}".rstrip("_")
    return f"{text}_value" if text in RESERVED else text


def safe_names(names: Iterable[str]) -> dict[str, str]:
    """The safe name of each. Raises `ParameterError` for two that become one."""
    found: dict[str, str] = {}
    for name in names:
        safe = safe_name(name)
        for other, taken in found.items():
            if taken == safe:
                right = f"another name: {other!r} becomes {safe} in firmware too"
                raise ParameterError("name", name, right)
        found[name] = safe
    return found


def comment(text: str) -> str:
    """A text that stays inside a comment of any target, on one line."""
    text = "".join(" " if unicodedata.category(c)[0] in "CZ" else c for c in text)
    text = text.replace("\\", "|")  # which would join two lines
    for ends in ("*/", "/*", "*)", "(*", "//", "??"):
        while ends in text:
            text = text.replace(ends, " ".join(ends))
    return text.strip()


def plain_unit(unit: str | None) -> str:
    """A unit in the letters that a small display has: `C`, `%`, `ohm`."""
    short = {"degC": "C", "degF": "F", "deg": "deg", "zone": "", None: ""}
    if unit in short:
        return short[unit]
    text = str(unit)
    return text if text.isascii() and text.isprintable() else for_column(text)
