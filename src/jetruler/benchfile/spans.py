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
    section = _section(text, channel)
    if section is None:
        return None
    wanted = re.compile(rf"^[ \t]*{re.escape(key)}[ \t]*=[ \t]*\[", re.MULTILINE)
    at = wanted.search(text, *section)
    if at is None:
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


def set_key(text: str, channel: str, key: str, value: str) -> str:
    """The text with `key = value` below `[channel.<name>]`: in the place of the line that sets it,
    else behind the list of laws."""
    section = _section(text, channel)
    laws = list_items(text, channel, "laws")
    if section is None or laws is None:
        return text
    line = f"{key} = {value}"
    present = re.compile(rf"^[ \t]*{re.escape(key)}[ \t]*=[^\n]*", re.MULTILINE)
    for found in present.finditer(text, *section):
        if not laws[0] < found.start() < laws[1]:
            return text[: found.start()] + line + text[found.end() :]
    end = text.find("\n", laws[1])
    end = len(text) if end < 0 else end
    return f"{text[:end]}\n{line}{text[end:]}"


def _section(text: str, channel: str) -> tuple[int, int] | None:
    """Where the keys of `[channel.<name>]` stand."""
    name = re.escape(channel)
    name = rf"(?:{name}|\"{name}\"|'{name}')"
    head = re.compile(rf"^[ \t]*\[\s*channel\s*\.\s*{name}\s*\]", re.MULTILINE)
    skipped = _strings(text)
    opened = next((m for m in head.finditer(text) if m.start() not in skipped), None)
    if opened is None:
        return None
    for following in re.compile(r"^[ \t]*\[", re.MULTILINE).finditer(text, opened.end()):
        if _depth(text, opened.end(), following.start()) == 0:
            return opened.end(), following.start()
    return opened.end(), len(text)


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
