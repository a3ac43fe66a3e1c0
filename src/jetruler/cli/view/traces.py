"""A trace over time and the double-edged ruler in the cells of a terminal."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np
from rich.text import Text

from ...core.bench.channel import Channel
from ...core.laws.shape import zones_of
from ...core.numerics import Array, Truths
from ...live.stream_processor import Window
from ..streams import encoding

#: Dots across and down in one cell, and the bit of each.
ACROSS, DOWN = 2, 4
_BITS = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]])
_BRAILLE = 0x2800

#: Styles a text: red where flagged.
Style = Callable[[str, bool], Text]


def ends_of(window: Window, channel: Channel) -> tuple[float, float] | None:
    """The lowest and the highest value in a window, never the same; None where there is none."""
    if np.isnan(window.low).all():
        return None
    zones = zones_of(channel.ruler.laws[-1:])
    if zones is not None and zones[1].names is not None:
        return 0.0, float(len(zones[1].names) - 1)
    low, high = float(np.nanmin(window.low)), float(np.nanmax(window.high))
    least = 2.0 * 10.0 ** -(channel.decimals or 0)
    if high - low < least:
        middle = 0.5 * (low + high)
        return middle - 0.5 * least, middle + 0.5 * least
    return low, high


def trace_rows(
    window: Window,
    ends: tuple[float, float],
    width: int,
    height: int,
    style: Style,
    plain: bool = False,
) -> list[Text]:
    """The rows of a trace. window: with two columns for each cell across.

    A column of dots reaches from the lowest to the highest value that came in its time, and on to
    the column before, so that a line is seen and no spike is lost. plain: there is no colour, so
    that flags are below the line."""
    dots = _dots(window, ends, ACROSS * width, DOWN * height)
    cells = dots.reshape(height, DOWN, width, ACROSS)
    codes = np.einsum("hdwa,da->hw", cells.astype(np.int64), _BITS)
    flagged: Truths = (window.flags != 0).reshape(width, ACROSS).max(axis=1)
    empty: Truths = np.isnan(window.low).reshape(width, ACROSS).min(axis=1)
    rows = []
    for i, row in enumerate(codes):
        signs = [_sign(code) for code in row.tolist()]
        if i == height - 1:  # flagged and without a value: nothing to draw, but something to say
            silent = (flagged & (empty | (plain & (row == 0)))).tolist()
            signs = ["!" if none else sign for sign, none in zip(signs, silent, strict=True)]
        rows.append(_styled(signs, flagged, style))
    return rows


def _dots(window: Window, ends: tuple[float, float], across: int, down: int) -> Truths:
    low, high = ends
    scale = (down - 1) / (high - low)

    def place(values: Array) -> Array:
        found: Array = np.clip(np.rint((values - low) * scale), 0, down - 1)
        return found

    low_values, high_values = _joined(window)
    low_dots, high_dots = place(low_values), place(high_values)
    bottom, top = low_dots.copy(), high_dots.copy()
    # On to the column before, where that one has a value.
    bottom[1:] = np.fmin(bottom[1:], high_dots[:-1])
    top[1:] = np.fmax(top[1:], low_dots[:-1])
    there = ~np.isnan(low_values)
    level = np.arange(down)[::-1, np.newaxis]
    with np.errstate(invalid="ignore"):
        found: Truths = there & (level >= bottom) & (level <= top)
    return found


def _joined(window: Window) -> tuple[Array, Array]:
    """The ends of each column; one in which nothing was due takes those of the one before."""
    known = np.flatnonzero(~np.isnan(window.low) | (window.flags != 0))
    if known.size < 2:
        return window.low, window.high
    usual = 2.5 * float(np.median(np.diff(known)))
    columns = np.arange(window.low.size)
    before = known[np.maximum(np.searchsorted(known, columns, "right") - 1, 0)]
    source = np.where((columns >= before) & (columns - before <= usual), before, columns)
    return window.low[source], window.high[source]


def _sign(code: int) -> str:
    if not code:
        return " "
    return chr(_BRAILLE + code) if _has("⣿") else _block(code)


def _block(code: int) -> str:
    """Half a cell, or a whole one, where there is no Braille; a star where there are no blocks."""
    if not _has("▀▄█"):
        return "*"
    upper, lower = code & 0x1B, code & 0xE4
    return "█" if upper and lower else "▀" if upper else "▄"


def _has(signs: str) -> bool:
    try:
        signs.encode(encoding())
    except (UnicodeEncodeError, LookupError):
        return False
    return True


def _styled(signs: list[str], flagged: Truths, style: Style) -> Text:
    """The row, in stretches that are flagged or not."""
    parts: list[Text] = []
    start = 0
    flags = flagged.tolist()
    for i in range(1, len(signs) + 1):
        if i == len(signs) or flags[i] != flags[start]:
            parts.append(style("".join(signs[start:i]), flags[start]))
            start = i
    return Text.assemble(*parts)


def moments(turns: list[tuple[float, str, bool]], now: float, span: float, width: int) -> str:
    """A row that marks when trips turned on (▲) and off (▽), with their names where there is
    room."""
    found = [
        (column, name, on)
        for at, name, on in turns
        if 0 <= (column := math.floor((at - now + span) / span * width)) < width
    ]
    taken = sorted({column for column, _, _ in found} | {width})
    cells = [" "] * width
    for column, name, on in found:
        cells[column] = "▲" if on else "▽"
        if on and column + len(name) + 1 < next(place for place in taken if place > column):
            cells[column + 1 : column + 1 + len(name)] = name
    return "".join(cells)
