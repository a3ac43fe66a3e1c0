"""What `check` says to type, typed into a bench file."""

from __future__ import annotations

import re
from typing import Any

import tomlkit

_ONE = re.compile(r"; (?=(?:channel|trip|drive)\.)")
_PLACE = re.compile(r"\[(\d+)\]|([^.\[\]]+)")


def typed(text: str, change: str) -> str:
    """The bench file with a change made in it."""
    document = tomlkit.parse(text)
    for edit in _ONE.split(change):
        where, what = edit.split(": ", 1)
        table: Any = document
        for number, key in _PLACE.findall(where):
            table = table[int(number) - 1] if number else table.setdefault(key, {})
        if place := re.fullmatch(r"(insert )?\[(\d+)\] (.*)", what):
            table.insert(int(place[2]) - 1, _value(place[3]))
        elif place := re.fullmatch(r"leave out \[(\d+)\]", what):
            del table[int(place[1]) - 1]
        elif what.startswith("leave out "):
            del table[what.removeprefix("leave out ")]
        else:
            key, value = what.split(" = ", 1)
            table[key] = _value(value)
    return tomlkit.dumps(document)


def _value(text: str) -> Any:
    return tomlkit.parse(f"x = {text}")["x"]
