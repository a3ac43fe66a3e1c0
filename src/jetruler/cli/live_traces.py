"""The live view's traces: every channel in a few rows, or one of them large."""

from __future__ import annotations

from ..core.model.channel import Channel
from ..core.model.reading import flag_names
from ..core.model.text import number
from .live_keys import Controls
from .live_style import ENDS, NAME, RED, VALUE, Style, clock, none
from .streams import as_shown
from .trace_view import ACROSS, ends_of, moments, trace_rows


def trace_head(controls: Controls, width: int) -> str:
    """What stands above the traces: the time that they show."""
    before, room = _room(width)
    head = f"{'channel':<{NAME}}{'value':>{VALUE}}"
    return f"{head:<{before}}{_time_axis(controls.span, room)}{'scale':>{ENDS}}"


def turned(controls: Controls, elapsed: float, width: int) -> str:
    """A row that marks when trips turned, below the traces."""
    before, room = _room(width)
    turns = list(controls.desk.session.station.turns)
    return " " * before + as_shown(moments(turns, elapsed, controls.span, room))


def _room(width: int) -> tuple[int, int]:
    """The cells before a trace, and those of it."""
    before = NAME + VALUE + 2
    return before, max(8, width - before - ENDS)


def trace_lines(
    style: Style, controls: Controls, channel: Channel, elapsed: float, width: int, each: int
) -> list[str]:
    """A channel's value, and beside it what it did in the last minute."""
    session = controls.desk.session
    seen, history = session.station.seen[channel.name], session.station.history
    before, room = _room(width)
    flags = flag_names(seen.flags)
    value = as_shown(channel.shown(seen.value)) if seen.count == seen.count else "–"
    name = style.name(channel.name, channel.name == controls.chosen)
    shown = style(f"{value[: VALUE - 1]:>{VALUE}}", fg=style.hue(seen), bold=True)
    cells = [name + shown]
    text = style(f"{' '.join(flags)[: before - 4]:<{before - 4}}", fg=RED)
    cells += ["  " + text, *[" " * (before - 2)] * each]
    window = history[channel.name].window(elapsed, controls.span, ACROSS * room)
    ends = ends_of(window, channel)
    if ends is None:
        return cells[:each]
    rows = trace_rows(window, ends, room, each, style.flagged, plain=not style.colour)
    low, high = (as_shown(channel.shown(end)) for end in ends)
    labels = [f"{high:>{ENDS}}"] + [" " * ENDS] * (each - 2) + [f"{low:>{ENDS}}"] * (each > 1)
    return [f"{cell}  {row}{label}" for cell, row, label in zip(cells, rows, labels, strict=False)]


def one_trace(style: Style, controls: Controls, elapsed: float, width: int, room: int) -> list[str]:
    """The chosen channel, or what the chosen drive follows, large."""
    session = controls.desk.session
    name = controls.chosen
    if controls.on_drive:
        name = session.bench.drives[name].source
    channel = session.bench.channels.get(name) or next(iter(session.bench.channels.values()))
    seen = session.station.seen[channel.name]
    value = as_shown(channel.shown(seen.value)) if seen.count == seen.count else "–"
    flags = " ".join(flag_names(seen.flags))
    title = style(f"{channel.name}  {value}  ", bold=True, fg=style.hue(seen))
    about = f"{'' if none(seen.count) else number(seen.count)}  {channel.about}"
    lines = [title + style(flags + "  ", fg=RED) + about[: max(0, width - 40)]]
    across, height = max(8, width - ENDS - 1), max(2, room - 2)
    window = session.station.history[channel.name].window(elapsed, controls.span, ACROSS * across)
    ends = ends_of(window, channel)
    if ends is None:
        return [*lines, "nothing yet"] + [""] * (height - 1)
    rows = trace_rows(window, ends, across, height, style.flagged, plain=not style.colour)
    low, high = ends
    for i, row in enumerate(rows):
        level = high - (high - low) * i / (height - 1)
        marked = i in (0, height - 1) or i % max(2, height // 4) == 0
        label = as_shown(channel.shown(level)) if marked else ""
        lines.append(f"{label[: ENDS - 1]:>{ENDS - 1}} {'┤' if marked else '│'}" + row)
    turns = moments(list(session.station.turns), elapsed, controls.span, across)
    axis = _time_axis(controls.span, across)
    under = "".join(a if a != " " else b for a, b in zip(turns, axis, strict=True))
    return [*lines, " " * (ENDS + 1) + under]


def _time_axis(span: float, width: int) -> str:
    """From so long ago to now."""
    start, end = f"−{clock(span)}", "now"
    return as_shown(f"{start}{end:>{max(1, width - len(start))}}"[:width])
