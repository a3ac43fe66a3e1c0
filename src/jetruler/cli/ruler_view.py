"""The double-edged ruler in a terminal: counts above, true values below, a cursor between."""

from __future__ import annotations

from rich.style import Style
from rich.text import Text

from ..core.channel import Channel
from ..core.text import number
from ..core.ticks import raw_ends, round_values, true_ticks
from ..core.units import sign

#: The palette: jet body, ivory ticks, amber cursor.
BODY = Style(color="#f4ecd8", bgcolor="#16140f")
CURSOR = Style(color="#ffb000", bgcolor="#16140f", bold=True)
AMBER = Style(color="#ffb000", bold=True)


def ruler_view(channel: Channel, count: float | None, width: int) -> Text:
    """The ruler of a channel, `width` characters wide, with its cursor at a count."""
    margin = max(len("count"), len(sign(channel.unit))) + 2
    inner = max(width - margin - 3, 20)
    low, high = raw_ends(channel.ruler)

    def column(raw: float) -> int:
        return round((raw - low) / (high - low) * (inner - 1))

    raw_ticks = [(column(value), number(value)) for value in round_values(low, high, inner // 8)]
    true = [
        (column(tick.raw), tick.label)
        for tick in true_ticks(channel.ruler, inner // 5, channel.limits)
    ]
    at = None if count is None or not low <= count <= high else column(count)
    text = Text()
    if at is not None and count is not None:
        text.append(" " * margin + _centred(at, number(count), inner).rstrip() + "\n", AMBER)
    text.append(f"{'count':>{margin - 2}}  {_labels(raw_ticks, inner)}".rstrip() + "\n")
    text.append(" " * (margin - 1))
    text += _edge(raw_ticks, "┬", inner, at, "▼")
    text.append("\n" + " " * (margin - 1))
    text += _edge(true, "┴", inner, at, "▲")
    text.append("\n")
    unit = sign(channel.unit)
    text.append(f"{unit:>{margin - 2}}  {_labels(true, inner)}".rstrip() + "\n")
    if at is not None and count is not None:
        value = channel.shown(channel.ruler(count))
        text.append(" " * margin + _centred(at, value, inner).rstrip() + "\n", AMBER)
    text.rstrip()
    return text


def _edge(ticks: list[tuple[int, str]], mark: str, inner: int, at: int | None, cursor: str) -> Text:
    cells = [" "] * inner
    for place, _ in ticks:
        cells[place] = mark
    text = Text("▕", BODY) + Text("".join(cells), BODY) + Text("▏", BODY)
    if at is not None:
        text = text[: at + 1] + Text(cursor, CURSOR) + text[at + 2 :]
    return text


def _labels(ticks: list[tuple[int, str]], inner: int) -> str:
    """Labels centred under their ticks; one that would touch its neighbour is left out."""
    line = [" "] * (inner + 8)
    free_from = 0
    for place, label in ticks:
        start = max(place - len(label) // 2, 0)
        if start >= free_from and start + len(label) <= inner + 2:
            line[start : start + len(label)] = label
            free_from = start + len(label) + 1
    return "".join(line)


def _centred(place: int, label: str, inner: int) -> str:
    start = min(max(place - len(label) // 2, 0), max(inner - len(label) + 2, 0))
    return " " * start + label
