"""What the tables of a bench file share, put into each of them before they are read by the models:
laws by name, channels like others, the common converter."""

from __future__ import annotations

from typing import Any

from ..core.error_types import expected_found
from ..core.laws import law_named, law_names
from ..core.ruler.base_law import parameters
from ..core.ruler.units import nearest


def with_named_laws(table: dict[str, Any], errors: list[str]) -> dict[str, Any]:
    """The same tables, where `{ law = "probe" }` in a list is what `[law.probe]` says, but for
    what it says itself."""
    named = dict(tables_in(table.get("law")))
    for name in [name for name in named if name in law_names()]:
        expected = "another name than that of a law"
        errors.append(f"law.{name}.name: {expected_found(expected, name)}")
        del named[name]

    def whole(part: Any) -> Any:
        base = named.get(str(part.get("law"))) if isinstance(part, dict) else None
        return part if base is None else base | {k: v for k, v in part.items() if k != "law"}

    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    for key, part in tables_in(channels):
        if isinstance(part.get("laws"), list):
            channels[key] = part | {"laws": [whole(law) for law in part["laws"]]}
    return table | {"channel": channels} if channels else table


#: Where a channel's raw values come from: it says one of them, and leaves the other's place.
_RAW = ("input", "converter")


def with_likes(table: dict[str, Any], errors: list[str]) -> dict[str, Any]:
    """The same tables, where a channel with `like` has all that the other one says, but for what
    it says itself."""
    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    named = dict(tables_in(channels))

    def whole(key: str, before: tuple[str, ...]) -> dict[str, Any]:
        part = dict(named[key])
        if "like" not in part:
            return part
        other = part.pop("like")
        if not isinstance(other, str) or other not in named or other in before:
            why = nearest(str(other), [name for name in named if name not in before])
            found = expected_found("another channel of the bench", other)
            errors.append(f"channel.{before[0]}.like: {found}; {why}")
            return part
        base = whole(other, (*before, other))
        if any(raw in part for raw in _RAW):
            base = {k: v for k, v in base.items() if k not in _RAW}
        return base | part

    whole_ones = {key: whole(key, (key,)) for key in named}
    return table | {"channel": channels | whole_ones} if whole_ones else table


def inherited(table: dict[str, Any]) -> dict[str, Any]:
    """The same tables, where a converter that is in a list of laws has what `[converter]` and
    the channel's own say, as far as it does not say it itself."""
    channels = dict(table.get("channel", {})) if isinstance(table.get("channel"), dict) else {}
    for key, part in tables_in(channels):
        laws = part.get("laws")
        if not isinstance(laws, list) or not laws or not isinstance(laws[0], dict):
            continue
        first = laws[0]
        if first.get("law") not in ("adc", "counts"):
            continue
        known = parameters(law_named(first["law"]))
        own = part.get("converter")
        declared = table.get("converter", {}) | (own if isinstance(own, dict) else {})
        given = {k: v for k, v in declared.items() if k in known}
        channels[key] = part | {"laws": [given | first, *laws[1:]]}
    return table | {"channel": channels} if channels else table


def tables_in(named: Any) -> list[tuple[str, dict[str, Any]]]:
    """Those that are tables at all; the others are told by the file's model."""
    found = named.items() if isinstance(named, dict) else ()
    return [(key, part) for key, part in found if isinstance(part, dict)]
