"""The double-edged ruler in a terminal: counts above, true values below, a cursor between."""

from __future__ import annotations

from rich.text import Text

from ..core.model.channel import Channel
from ..core.model.text import number
from ..core.model.ticks import raw_ends, round_values, true_ticks
from ..core.model.units import raw_symbol, symbol
from .streams import as_shown

#: The palette: jet body, ivory ticks, amber cursor.
JET, IVORY, AMBER = "#16140f", "#f4ecd8", "#ffb000"
BODY, CURSOR = f"{IVORY} on {JET}", f"bold {AMBER} on {JET}"

#: A tick or label: its column, and its text.
Mark = tuple[int, str]


def ruler_lines(channel: Channel, count: float | None, width: int) -> list[Text]:
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
    before = " " * (margin - 1)
    at = column(count) if count is not None and low <= count <= high else None
    lines = [
        Text(f"{raw_unit:>{margin - 2}}  {_labels(raw_marks, inner)}"),
        Text(before) + _edge(raw_marks, "┬", inner, at, "▼"),
        Text(before) + _edge(true_marks, "┴", inner, at, "▲"),
        Text(f"{unit:>{margin - 2}}  {_labels(true_marks, inner)}"),
    ]
    if at is not None and count is not None:
        value = as_shown(channel.shown(channel.ruler(count)))
        above, below = (_centred(at, text, inner) for text in (as_shown(number(count)), value))
        lines.insert(0, Text(" " * margin + above, style=f"bold {AMBER}"))
        lines.append(Text(" " * margin + below, style=f"bold {AMBER}"))
    for line in lines:
        line.rstrip()
    return lines


def _edge(marks: list[Mark], tick: str, inner: int, at: int | None, cursor: str) -> Text:
    cells = [" "] * inner
    for place, _ in marks:
        cells[place] = tick
    line = Text("▕" + "".join(cells) + "▏", style=BODY)
    if at is None:
        return line
    return line[: at + 1] + Text(cursor, style=CURSOR) + line[at + 2 :]


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
