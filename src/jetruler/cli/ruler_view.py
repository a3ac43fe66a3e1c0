"""The double-edged ruler in a terminal: counts above, true values below, a cursor between."""

from __future__ import annotations

import click

from ..core.model.channel import Channel
from ..core.model.text import number
from ..core.model.ticks import raw_ends, round_values, true_ticks
from ..core.model.units import raw_symbol, symbol
from .streams import as_shown

#: The palette: jet body, ivory ticks, amber cursor.
JET, IVORY, AMBER = (0x16, 0x14, 0x0F), (0xF4, 0xEC, 0xD8), (0xFF, 0xB0, 0x00)

#: A tick or label: its column, and its text.
Mark = tuple[int, str]


def ruler_view(channel: Channel, count: float | None, width: int) -> str:
    """The ruler of a channel, `width` characters wide, with its cursor at a count."""
    unit = as_shown(symbol(channel.unit))
    raw_unit = as_shown(raw_symbol(channel.ruler.takes))
    margin = max(len(raw_unit), len(unit)) + 2
    inner = max(width - margin - 3, 20)
    low, high = raw_ends(channel.ruler)

    def column(raw: float) -> int:
        return round((raw - low) / (high - low) * (inner - 1))

    raw_marks = [
        (column(value), as_shown(number(value))) for value in round_values(low, high, inner // 8)
    ]
    true_marks = [
        (column(tick.raw), as_shown(tick.label))
        for tick in true_ticks(channel.ruler, inner // 5, channel.limits)
    ]
    lines = [
        f"{raw_unit:>{margin - 2}}  {_labels(raw_marks, inner)}",
        " " * (margin - 1) + _edge(raw_marks, "┬", inner, None, "▼"),
        " " * (margin - 1) + _edge(true_marks, "┴", inner, None, "▲"),
        f"{unit:>{margin - 2}}  {_labels(true_marks, inner)}",
    ]
    if count is not None and low <= count <= high:
        at = column(count)
        value = as_shown(channel.shown(channel.ruler(count)))
        lines[1] = " " * (margin - 1) + _edge(raw_marks, "┬", inner, at, "▼")
        lines[2] = " " * (margin - 1) + _edge(true_marks, "┴", inner, at, "▲")
        lines.insert(0, _amber(" " * margin + _centred(at, as_shown(number(count)), inner)))
        lines.append(_amber(" " * margin + _centred(at, value, inner)))
    return "\n".join(line.rstrip() for line in lines)


def _amber(text: str) -> str:
    return click.style(text, fg=AMBER, bold=True)


def _edge(marks: list[Mark], tick: str, inner: int, at: int | None, cursor: str) -> str:
    cells = [" "] * inner
    for place, _ in marks:
        cells[place] = tick
    line = "▕" + "".join(cells) + "▏"
    if at is None:
        return click.style(line, fg=IVORY, bg=JET)
    return (
        click.style(line[: at + 1], fg=IVORY, bg=JET)
        + click.style(cursor, fg=AMBER, bg=JET, bold=True)
        + click.style(line[at + 2 :], fg=IVORY, bg=JET)
    )


def _labels(marks: list[Mark], inner: int) -> str:
    """Labels centred under their ticks; one that would touch its neighbour is left out."""
    line = [" "] * (inner + 8)
    free_from = 0
    for place, label in marks:
        start = max(place - len(label) // 2, 0)
        if start >= free_from and start + len(label) <= inner + 2:
            line[start : start + len(label)] = label
            free_from = start + len(label) + 1
    return "".join(line).rstrip()


def _centred(place: int, label: str, inner: int) -> str:
    start = min(max(place - len(label) // 2, 0), max(inner - len(label) + 2, 0))
    return " " * start + label
