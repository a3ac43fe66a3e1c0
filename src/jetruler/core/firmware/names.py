"""Names and texts that are safe in every target."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator

from ..error_types import ParameterError
from ..model.units import for_column
from .reserved import is_reserved


def safe_name(name: str) -> str:
    """A name as C, Python and structured text all take it: lower-case ASCII."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    text = re.sub(r"_+", "_", re.sub(r"[^a-z0-9_]", "_", plain)).strip("_")
    if not text or text[0].isdigit():
        text = f"ch_{text}".rstrip("_")
    return f"{text}_value" if is_reserved(text) else text


#: What an export adds to a name, by what has the name.
ENDINGS = {
    "channel": (
        *("", "_flags", "_flags_of", "_x", "_y", "_text", "_has_value", "_has_value_of", "_count"),
        *("_smooth", "_smoothing", "_holding", "_zone", "_zone_at", "_zone_from", "_zone_to"),
        *("_of_zone", *(f"_output{i}" for i in range(1, 10))),
    ),
    "trip": ("", "_update", "_on", *(f"_if{i}" for i in range(1, 10))),
    "drive": ("", "_update", "_goal", "_goal_x", "_goal_y"),
}


def generated_names(kind: str, name: str) -> list[str]:
    """All names that an export may give to what belongs to a channel, a trip or a drive; macros
    and classes too, which differ from these by upper and lower case alone in other languages."""
    safe = safe_name(name)
    made = [safe + ending for ending in ENDINGS[kind]]
    if kind == "channel":
        made += [f"{safe}_scale", f"{safe}_no_value"]
    return made


def name_clashes(named: Iterable[tuple[str, str]]) -> Iterator[tuple[str, str, ParameterError]]:
    """The names that cannot stand beside one another in exported code, as kind, name, error.

    named: kind ("channel", "trip", "drive") and name of each.
    """
    owners: dict[str, tuple[str, str]] = {}
    for kind, name in named:
        made = generated_names(kind, name)
        for one in made:
            if one in owners:
                other_kind, other = owners[one]
                has = "this name" if name == other else f"{one} in exported code"
                right = f"another name: {other_kind} {other} has {has} already"
                yield kind, name, ParameterError("name", name, right)
                break
        owners |= dict.fromkeys(made, (kind, name))


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
