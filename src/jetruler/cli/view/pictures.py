"""The live view's pictures: a snapshot in, lines of styled text out, as wide as they are asked."""

from __future__ import annotations

import contextlib
import math
from collections.abc import Sequence
from functools import lru_cache

from rich.text import Text

from ...core.bench.channel import Channel
from ...core.bench.derived import DerivedChannel
from ...core.bench.drives import Drive
from ...core.error_types import ParameterError
from ...core.ruler.raw_range import raw_ends
from ...core.ruler.reading import Flag, flag_names
from ...core.ruler.units import number, raw_symbol, significant, symbol
from ...live.controls import ChannelState, DriveState, Snapshot, TripState
from ...live.stream_processor import Window
from ...show.ticks import SMALL, in_use, round_values, true_ticks
from ..streams import AMBER, BODY, CURSOR, IVORY, as_shown
from .traces import ACROSS, ends_of, moments, trace_rows

BLUE, RED, GREY = "#5aa9e6", "#ff6b55", "#8a8578"
#: Cells of a name, of a count, of volts, of a value, and of the ends of a scale.
NAME, COUNT, VOLTS, VALUE, ENDS = 10, 6, 8, 11, 13
#: Rows that a ruler and a trace may take.
RULER_ROWS, TRACE_ROWS = 3, 6


def clock(seconds: float) -> str:
    """A time for people: `12.3 s`, `1:05 min`."""
    if seconds < 60:
        return f"{seconds:.1f} s"
    return f"{int(seconds // 60)}:{int(seconds % 60):02d} min"


def head(shot: Snapshot, width: int) -> Text:
    """Two lines: what runs, and how it is."""
    left, right = f"{shot.title} · {shot.source}", f"{shot.rate:.1f} samples/s · {shot.bad}"
    gap = max(2, width - len(left) - len(right))
    title = Text((left + " " * gap + right)[:width], style="bold")
    why = f": {shot.why_gone}" if shot.why_gone else ""
    if shot.state == "waiting":
        state = Text(f"waiting for the first line{why}"[:width], style=BLUE)
    elif shot.state == "stale":
        why = f"; {shot.why_gone}" if shot.why_gone else ""
        state = Text(f"STALE: nothing for {shot.silent:.1f} s{why}"[:width], style=f"bold {RED}")
    else:
        state = Text(f"live for {shot.elapsed:.0f} s", style=BLUE)
        if shot.returns:
            state.append(f", {shot.returns} times gone and back", style=IVORY)
    return Text("\n").join([title, state])


def columns_head(shot: Snapshot, view: str, span: float, width: int) -> Text:
    """What is above the channels, with the raw values' unit where they have one."""
    if view != "rulers":
        before, room = trace_room(width)
        left = f"{'channel':<{NAME}}{'value':>{VALUE}}"
        axis = time_axis(span, room)
        return Text(f"{left:<{before}}{axis}{'scale':>{ENDS}}"[:width], style=GREY)
    units = {raw_symbol(state.channel.ruler.takes) for state in shot.channels}
    raw = "raw"
    if len(units) == 1:
        (unit,) = units
        raw = "counts" if unit == raw_symbol("count") else unit or raw
    left = f"{'channel':<{NAME}}{raw:>{COUNT}}{'volts':>{VOLTS}}{'value':>{VALUE}}"
    room = width - len(left) - 2 - ENDS
    return Text(left if room < 8 else f"{left}  {'':<{room}}{'ends seen':>{ENDS}}", style=GREY)


# Channels by their rulers.


def ruler_room(width: int) -> tuple[int, int]:
    """The cells before a ruler, and those of it; less than 8 where there is none."""
    before = NAME + COUNT + VOLTS + VALUE + 2
    return before, width - before - ENDS


def ruler_rows(state: ChannelState, width: int, rows: int, chosen: bool) -> list[Text]:
    """A channel by its ruler, in one to three lines."""
    channel, flags = state.channel, flag_names(state.flags)
    raw = _raw_text(state)
    volts = "–" if math.isnan(state.volts) else f"{state.volts:.3f} V"
    line = named(channel.name, chosen)
    line.append(f"{raw:>{COUNT}}{volts:>{VOLTS}}")
    line.append(f"{_short_value(state):>{VALUE}}", style=f"bold {hue(state)}")
    before, room = ruler_room(width)
    if room < 8:
        return [line]
    low, high = raw_range(state)
    marks = _true_marks(channel, room, low, high)
    lined = tuple((place, label) for place, label, is_line in marks if is_line)
    true_edge = _edge(lined, low, high, state, room, signs="┴╧▲")
    ends = as_shown(_ends_seen(state))
    under = Text("  ") + Text(f"{' '.join(flags)[: before - 4]:<{before - 2}}", style=RED)
    under.append(_labels([(place, label) for place, label, _ in marks], room))
    if rows < 3:
        return [line + Text("  ") + true_edge + Text(f"{ends:>{ENDS}}"), under][:rows]
    scale = (room - 3) / (high - low)
    raw_marks = tuple(
        (round((value - low) * scale), number(value))
        for value in round_values(low, high, room // 8)
    )
    raw_edge = _edge(raw_marks, low, high, state, room, signs="┬╤▼")
    first = line + Text("  ") + raw_edge + Text(f"{ends:>{ENDS}}")
    return [first, Text(" " * before) + true_edge, under]


def _raw_text(state: ChannelState) -> str:
    """The raw value with as many digits as there is room for; what is computed from others has
    none of its own."""
    if not state.has_count or isinstance(state.channel, DerivedChannel):
        return "–"
    if state.channel.ruler.takes == "count":
        return number(state.count)
    texts = (number(significant(state.count, digits)) for digits in (15, 6, 5, 4, 3))
    return next((text for text in texts if len(text) < COUNT), number(state.count))


def _ends_seen(state: ChannelState) -> str:
    """Whole counts; an input with its own decimals."""
    if not state.highest >= state.lowest:
        return "–"
    edge = state.channel.ruler.edge
    step = edge.lsb if edge is not None and edge.lsb else 1.0
    places = max(0, min(4, -math.floor(math.log10(step) + 1e-9)))
    return f"{state.lowest:.{places}f}…{state.highest:.{places}f}".replace("-", "−")


def raw_range(state: ChannelState) -> tuple[float, float]:
    """The ends of the raw edge, or of the part in use where that is small, and of what was seen
    beyond it; of an input without a range, of what has been seen alone."""
    try:
        ends, part = _ends_and_part(state.channel)
        if part == ends or not state.lowest <= state.highest:
            return part
        seen = min(part[0], state.lowest), max(part[1], state.highest)
        return seen if seen[1] - seen[0] < SMALL * (ends[1] - ends[0]) else ends
    except ParameterError:
        if state.lowest < state.highest:
            return state.lowest, state.highest
        middle = 0.0 if math.isnan(state.count) else state.count
        return middle - 1.0, middle + 1.0


def raw_at(state: ChannelState, cell: int, width: int) -> float:
    """The raw value at a cell of a ruler, counted from the left of the window."""
    before, room = ruler_room(width)
    low, high = raw_range(state)
    part = (cell - before - 1) / max(1, room - 3)
    return low + (high - low) * min(max(part, 0.0), 1.0)


@lru_cache(maxsize=512)
def _ends_and_part(channel: Channel) -> tuple[tuple[float, float], tuple[float, float]]:
    ends = raw_ends(channel.ruler)
    return ends, in_use(channel, ends, None)


@lru_cache(maxsize=512)
def _true_marks(
    channel: Channel, room: int, low: float, high: float
) -> tuple[tuple[int, str, bool], ...]:
    """The ticks of the true edge: a channel's ruler does not change from picture to picture."""
    scale = (room - 3) / (high - low)
    with contextlib.suppress(ParameterError):  # an input of unknown range has none
        ticks = true_ticks(channel.ruler, max(2, room // 7), channel.limits)
        return tuple(
            (round((t.raw - low) * scale), as_shown(t.label), t.is_line)
            for t in ticks
            if low <= t.raw <= high
        )
    return ()


def _edge(
    marks: Sequence[tuple[int, str]],
    low: float,
    high: float,
    state: ChannelState,
    room: int,
    signs: str,
) -> Text:
    """One edge: ticks at round values, a double line as far as has been seen, the cursor."""
    tick, tick_seen, cursor = signs[0], signs[1], signs[2]
    scale = (room - 3) / (high - low)
    cells = [" "] * (room - 2)
    if state.highest >= state.lowest:
        first, last = (round((end - low) * scale) for end in (state.lowest, state.highest))
        for i in range(max(0, first), min(len(cells) - 1, last) + 1):
            cells[i] = "═"
    for place, _ in marks:
        cells[place] = tick_seen if cells[place] == "═" else tick
    body = Text("".join(cells), style=BODY)
    if state.has_count and low <= state.count <= high:
        at = round((state.count - low) * scale)
        body = body[:at] + Text(cursor, style=CURSOR) + body[at + 1 :]
    return Text("▕") + body + Text("▏")


def _labels(marks: Sequence[tuple[int, str]], room: int) -> str:
    """The labels of ticks, centred under them; those that would touch are left out."""
    line, free = [" "] * room, 0
    for place, label in marks:
        start = max(place + 1 - len(label) // 2, 0)
        if start >= free and start + len(label) <= room:
            line[start : start + len(label)] = label
            free = start + len(label) + 1
    return "".join(line)


# Channels by what they did.


def trace_room(width: int) -> tuple[int, int]:
    """The cells before a trace, and those of it."""
    before = NAME + VALUE + 2
    return before, max(8, width - before - ENDS)


def large_room(width: int) -> int:
    """The cells of a trace that has the window for itself."""
    return max(8, width - ENDS - 1)


def trace_lines(
    state: ChannelState, width: int, rows: int, chosen: bool, plain: bool
) -> list[Text]:
    """A channel's value, and beside it what it did in the time that is shown."""
    channel = state.channel
    before, room = trace_room(width)
    first = named(channel.name, chosen)
    first.append(f"{_short_value(state):>{VALUE}}", style=f"bold {hue(state)}")
    flags = " ".join(flag_names(state.flags))[: before - 4]
    cells = [first, Text("  ") + Text(f"{flags:<{before - 4}}", style=RED)]
    cells += [Text(" " * (before - 2))] * rows
    window = _fitting(state.window, room)
    ends = None if window is None else ends_of(window, channel)
    if ends is None or window is None:
        return cells[:rows]
    traced = trace_rows(window, ends, room, rows, _flagged, plain=plain)
    low, high = (as_shown(channel.shown(end)) for end in ends)
    labels = [f"{high:>{ENDS}}"] + [" " * ENDS] * (rows - 2) + [f"{low:>{ENDS}}"] * (rows > 1)
    return [
        cell + Text("  ") + row + Text(label)
        for cell, row, label in zip(cells, traced, labels, strict=False)
    ]


def turned(shot: Snapshot, span: float, width: int) -> Text:
    """A row that marks when trips turned, below the traces."""
    before, room = trace_room(width)
    return Text(" " * before + as_shown(moments(list(shot.turns), shot.elapsed, span, room)))


def large_trace(
    shot: Snapshot, state: ChannelState, span: float, size: tuple[int, int], plain: bool
) -> list[Text]:
    """One channel, as large as the window."""
    width, room = size
    channel = state.channel
    title = Text(f"{channel.name}  {_value(state)}  ", style=f"bold {hue(state)}")
    title.append(" ".join(flag_names(state.flags)) + "  ", style=f"not bold {RED}")
    raw = number(state.count) if state.has_count else ""
    title.append(f"{raw}  {channel.about}"[: max(0, width - 40)], style=f"not bold {IVORY}")
    across, height = large_room(width), max(2, room - 2)
    window = _fitting(state.window, across)
    ends = None if window is None else ends_of(window, channel)
    if ends is None or window is None:
        return [title, Text("nothing yet")]
    lines = [title]
    low, high = ends
    rows = trace_rows(window, ends, across, height, _flagged, plain=plain)
    for i, row in enumerate(rows):
        level = high - (high - low) * i / (height - 1)
        marked = i in (0, height - 1) or i % max(2, height // 4) == 0
        label = as_shown(channel.shown(level)) if marked else ""
        lines.append(Text(f"{label[: ENDS - 1]:>{ENDS - 1}} {'┤' if marked else '│'}") + row)
    turns = moments(list(shot.turns), shot.elapsed, span, across)
    axis = time_axis(span, across)
    under = "".join(a if a != " " else b for a, b in zip(turns, axis, strict=True))
    return [*lines, Text(" " * (ENDS + 1) + under)]


def time_axis(span: float, width: int) -> str:
    """From so long ago to now."""
    start, end = f"−{clock(span)}", "now"
    return as_shown(f"{start}{end:>{max(1, width - len(start))}}"[:width])


def _fitting(window: Window | None, cells: int) -> Window | None:
    """A window, unless it was made for another width: the next snapshot is on its way."""
    return window if window is not None and window.low.size == ACROSS * cells else None


def _flagged(text: str, flagged: bool) -> Text:
    """A piece of a trace: red where it is flagged."""
    return Text(text, style=RED if flagged else BLUE)


# Trips and drives.


def trip_line(state: TripState, width: int) -> Text:
    """A trip: whether it is on, since when, and what it is."""
    ago = "" if state.since is None else clock(state.since)
    when = f"since {ago}" if state.on else f"last {ago} ago" if ago else ""
    rest = (state.trip.about or str(state.trip))[: max(0, width - NAME - 26)]
    text = Text(f"{state.trip.name[:NAME]:<{NAME}}  ")
    text.append(
        f"{'ON' if state.on else 'off':<4}{when:<18}", style=f"bold {RED}" if state.on else ""
    )
    return text + Text(f"  {rest}")


def drives_head(shot: Snapshot, width: int) -> Text:
    """Whether commands are sent."""
    how = "armed" if shot.armed else "disarmed: shown, not sent; --arm sends"
    if shot.wire and not shot.armed:
        how = "disarmed: shown, not sent; a arms"
    if shot.failure:
        how = f"NOT SENT: {shot.failure}"
    return Text(f"drives ({how})"[:width], style=RED if shot.failure else GREY)


#: Cells of a drive's command; where its bar begins; cells of what it follows.
COMMAND, BAR_AT, FOLLOWS = 11, NAME + 13, 14


def bar_room(width: int) -> int:
    """Cells of a drive's bar."""
    room = max(0, min(24, width - 52))
    return room if room >= 4 else 0


def gate_at(width: int) -> range:
    """The cells in which a drive's gate is."""
    start = BAR_AT + bar_room(width) + 2
    return range(start, start + 4)


def drive_line(state: DriveState, width: int, chosen: bool) -> Text:
    """A drive: its command, its gate, what it follows, and why it is safe."""
    drive = state.drive
    command = as_shown(f"{drive.text(state.command)} {symbol(drive.unit)}".strip())
    by_hand = state.by_hand is not None
    source = f"= {drive.text(state.by_hand or 0.0)}" if by_hand else f"← {state.source}"
    body = f"  {command[:9]:>9}  {_bar(drive, state.command, bar_room(width))}  "
    text = named(drive.name, chosen)
    text.append(body, style=f"bold {AMBER}" if state.word else IVORY)
    text.append("on  " if state.gate else "OFF ", style=GREY if state.gate else f"bold {AMBER}")
    text.append(as_shown(f" {source:<{FOLLOWS}}"), style=f"bold {AMBER}" if state.word else "")
    why = "" if not state.safe else f" SAFE: {state.safe}"
    text.append(why[: max(0, width - text.cell_len)], style=f"bold {BLUE}")
    return text


def command_at(drive: Drive, cell: int, width: int) -> float | None:
    """The command at a cell of a drive's bar; None beside it."""
    room = bar_room(width)
    if not room or not BAR_AT <= cell < BAR_AT + room:
        return None
    low, high = drive.bounds
    value = low + (high - low) * (cell - BAR_AT) / max(1, room - 1)
    return float(round(value)) if drive.whole else value


def _bar(drive: Drive, command: float, room: int) -> str:
    low, high = drive.bounds
    if high <= low:
        return " " * room
    filled = round((command - low) / (high - low) * room)
    return "█" * filled + "░" * (room - filled)


# What they share.


def named(name: str, chosen: bool) -> Text:
    """A name, marked where it is chosen."""
    if not chosen:
        return Text(f"{name[:NAME]:<{NAME}}")
    mark = as_shown("›")
    text = Text(f"{mark + name[: NAME - len(mark)]:<{NAME}}", style=f"bold {AMBER}")
    return Text("") + text


def hue(state: ChannelState) -> str:
    """Amber for what is held, red for what is flagged otherwise."""
    if state.flags & Flag.HELD:
        return AMBER
    return RED if state.flags else IVORY


def _value(state: ChannelState) -> str:
    return as_shown(state.channel.shown(state.value)) if state.count == state.count else "–"


def _short_value(state: ChannelState) -> str:
    """The value in its cells: too long, it goes without its unit, and what is cut says so."""
    text = _value(state)
    if len(text) >= VALUE:
        text = text.rpartition(" ")[0] or text
    return text if len(text) < VALUE else text[: VALUE - 2] + as_shown("…")[:1]


def window_columns(view: str, width: int) -> int:
    """The columns of the windows that a view needs: two for each cell of a trace."""
    if view == "rulers":
        return 0
    return ACROSS * (large_room(width) if view == "one trace" else trace_room(width)[1])
