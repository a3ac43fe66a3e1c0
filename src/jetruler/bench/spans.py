"""Where the items of a list stand in a TOML text, so that one can be changed and the rest kept."""

from __future__ import annotations

import re
from collections.abc import Iterator

_STRING = re.compile(
    r'"""(?:\\.|[^\\])*?"""|\'\'\'.*?\'\'\'|"(?:\\.|[^"\\\n])*"|\'[^\'\n]*\'|#[^\n]*', re.DOTALL
)


def list_items(text: str, channel: str, key: str) -> tuple[int, int, list[tuple[int, int]]] | None:
    """Start and end of the list `key = […]` below `[channel.<name>]`, brackets included, and of
    each item in it. None where it is not written that way."""
    name = re.escape(channel)
    head = re.compile(
        rf"^[ \t]*\[\s*channel\s*\.\s*(?:{name}|\"{name}\"|'{name}')\s*\]", re.MULTILINE
    )
    skipped = _strings(text)
    opened = next((m for m in head.finditer(text) if m.start() not in skipped), None)
    if opened is None:
        return None
    table = re.compile(r"^[ \t]*\[", re.MULTILINE)
    wanted = re.compile(rf"^[ \t]*{re.escape(key)}[ \t]*=[ \t]*\[", re.MULTILINE)
    at = wanted.search(text, opened.end())
    following = next(
        (
            m.start()
            for m in table.finditer(text, opened.end())
            if _depth(text, opened.end(), m.start()) == 0
        ),
        len(text),
    )
    if at is None or at.start() > following:
        return None
    start = at.end() - 1
    items: list[tuple[int, int]] = []
    begun: int | None = None
    last = start
    for place, sign in _signs(text, start):
        depth = _depth_after(sign)
        if sign == "[" and place == start:
            level = 1
            continue
        if level == 1 and sign not in ",]" and begun is None:
            begun = place
        level += depth
        if begun is not None and (level == 0 or (level == 1 and sign == ",")):
            items.append((begun, last))
            begun = None
        if level == 0:
            return start, place + 1, items
        last = place + len(sign)
    return None


def _depth_after(sign: str) -> int:
    return (sign in ("[", "{")) - (sign in ("]", "}"))


def _signs(text: str, start: int) -> Iterator[tuple[int, str]]:
    """Strings as a whole and every other sign, one by one; blanks and comments left out."""
    at = start
    while at < len(text):
        string = _STRING.match(text, at)
        if string is not None:
            if string[0][0] != "#":
                yield at, string[0]
            at = string.end()
            continue
        if not text[at].isspace():
            yield at, text[at]
        at += 1


def _depth(text: str, start: int, end: int) -> int:
    return sum(_depth_after(sign) for place, sign in _signs(text[:end], start) if place < end)


def _strings(text: str) -> set[int]:
    """Places inside strings and comments."""
    return {i for m in _STRING.finditer(text) for i in range(m.start(), m.end())}
