"""The running view of a stream, as text of the terminal's size: one picture a call."""

from __future__ import annotations

import contextlib
import math
import textwrap
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ..core.decide.drives import Drive
from ..core.error_types import ParameterError
from ..core.laws.adc import Adc
from ..core.model.channel import Channel
from ..core.model.reading import Flag, flag_names
from ..core.model.text import number
from ..core.model.ticks import Tick, raw_ends, round_values, true_ticks
from ..core.model.units import symbol
from .live_keys import KEYS, VIEWS, Controls
from .live_style import AMBER, BLUE, ENDS, GREY, IVORY, JET, NAME, RED, VALUE, Style, clock, none
from .live_traces import one_trace, trace_head, trace_lines, turned
from .streams import as_shown

if TYPE_CHECKING:
    from ..live.session import Session
    from ..live.station import SeenRange

COUNT, VOLTS = 6, 8

#: Ticks of a channel at a width: its ruler does not change from picture to picture.
_Ticks = list[tuple[int, str]]


class LiveView:
    """Draws a session. Lines that do not fit the window are left out, and it says so."""

    def __init__(self, colour: bool) -> None:
        self.style = Style(colour)
        self._known: dict[tuple[str, int, int], _Ticks] = {}

    def picture(self, controls: Controls, now: float, width: int, height: int) -> list[str]:
        """The lines of the view."""
        session = controls.desk.session
        width, height = max(width, 20), max(height, 4)
        top = self._head(session, now, width)
        bottom = [*self._trips(session, width), *self._drives(controls, width)]
        bottom += self._foot(controls, width)
        room = height - len(top) - len(bottom) - 1
        elapsed = now - session.progress.started
        if controls.view == VIEWS[2]:
            lines = [*top, *one_trace(self.style, controls, elapsed, width, room)]
        else:
            head = _row_head(width) if controls.view == VIEWS[0] else trace_head(controls, width)
            lines = [*top, self.style(head, fg=GREY)]
            lines += self._rows(controls, elapsed, width, room)
        lines += bottom
        if len(lines) > height:
            left = len(lines) - height + 1
            lines = [*lines[: height - 1], self.style(f"… {left} lines more", fg=GREY)]
        # With colours, the terminal itself cuts what is too wide.
        return lines if self.style.colour else [line[:width] for line in lines]

    def _rows(self, controls: Controls, elapsed: float, width: int, room: int) -> list[str]:
        """Every channel, by its ruler or its trace."""
        session = controls.desk.session
        channels = list(session.bench.channels.values())
        traces = controls.view == VIEWS[1]
        each = max(1, min(6 if traces else 3, (room - traces) // len(channels)))
        lines: list[str] = []
        for channel in channels:
            seen = session.station.seen[channel.name]
            chosen = channel.name == controls.chosen
            if traces:
                lines += trace_lines(self.style, controls, channel, elapsed, width=width, each=each)
            else:
                lines += self._channel(channel, seen, width, each, chosen)
        if traces and session.bench.trips and room > len(lines):
            lines.append(turned(controls, elapsed, width))
        return lines

    def _head(self, session: Session, now: float, width: int) -> list[str]:
        p = session.progress
        title = session.bench.title or "bench"
        head = f"{title} · {session.parts.source.name}"
        tail = f"{p.rate(now):.1f} samples/s · {_bad(session)}"
        if p.last_sample is None:
            why = f": {p.why_gone}" if p.why_gone else ""
            state = self.style(f"waiting for the first line{why}"[:width], fg=BLUE)
        elif p.stale or not p.connected:
            why = f"; {p.why_gone}" if p.why_gone else ""
            text = f"STALE: nothing for {now - p.last_sample:.1f} s{why}"
            state = self.style(text[:width], fg=RED, bold=True)
        else:
            state = self.style(f"live for {now - p.started:.0f} s", fg=BLUE)
            if p.returns:
                state += f", {p.returns} times gone and back"
        gap = max(2, width - len(head) - len(tail))
        return [self.style((head + " " * gap + tail)[:width], bold=True), state]

    def _channel(
        self, channel: Channel, seen: SeenRange, width: int, each: int, chosen: bool
    ) -> list[str]:
        flags = flag_names(seen.flags)
        value = as_shown(channel.shown(seen.value)) if seen.count == seen.count else "–"
        raw = "–" if none(seen.count) else number(seen.count)
        ends = f"{seen.lowest:.0f}…{seen.highest:.0f}" if seen.highest >= seen.lowest else "–"
        ends = as_shown(ends)
        cells = f"{raw:>{COUNT}}{_volts(channel, seen.count):>{VOLTS}}"
        shown = f"{value[: VALUE - 1]:>{VALUE}}"
        room = width - NAME - len(cells) - len(shown) - 2 - ENDS
        name = self.style.name(channel.name, chosen)
        line = name + cells + self.style(shown, fg=self.style.hue(seen), bold=True)
        if room < 8:
            return [line]
        marks, low, high = self._marks(channel, room, seen)
        true_edge = self._edge(marks, low, high=high, seen=seen, room=room, signs="┴╧▲")
        before = NAME + len(cells) + len(shown) + 2
        text = self.style(f"{' '.join(flags)[: before - 4]:<{before - 2}}", fg=RED)
        under = "  " + text + _labels(marks, room)
        if each < 3:
            lines = [line + "  " + true_edge + f"{ends:>{ENDS}}", under.rstrip()]
            return lines[:each]
        scale = (room - 3) / (high - low)
        raw_marks = [
            (round((value - low) * scale), number(value))
            for value in round_values(low, high, room // 8)
        ]
        raw_edge = self._edge(raw_marks, low, high=high, seen=seen, room=room, signs="┬╤▼")
        return [
            line + "  " + raw_edge + f"{ends:>{ENDS}}",
            " " * before + true_edge,
            under.rstrip(),
        ]

    def _marks(self, channel: Channel, room: int, seen: SeenRange) -> tuple[_Ticks, float, float]:
        low, high = _ends(channel, seen)
        key = (channel.name, room, hash((channel.ruler.laws, low, high)))
        if key not in self._known:
            ticks: list[Tick] = []
            with contextlib.suppress(ParameterError):  # an input of unknown range has none
                ticks = true_ticks(channel.ruler, max(2, room // 7), channel.limits)
            scale = (room - 3) / (high - low)
            self._known[key] = [(round((t.raw - low) * scale), as_shown(t.label)) for t in ticks]
        return self._known[key], low, high

    def _edge(
        self, marks: _Ticks, low: float, high: float, seen: SeenRange, room: int, signs: str
    ) -> str:
        """One edge: ticks at round values, a double line as far as has been seen, the cursor."""
        tick, tick_seen, cursor = signs[0], signs[1], signs[2]
        scale = (room - 3) / (high - low)
        cells = [" "] * (room - 2)
        if seen.highest >= seen.lowest:
            first, last = round((seen.lowest - low) * scale), round((seen.highest - low) * scale)
            for i in range(max(0, first), min(len(cells) - 1, last) + 1):
                cells[i] = "═"
        for place, _ in marks:
            cells[place] = tick_seen if cells[place] == "═" else tick
        body = "".join(cells)
        if none(seen.count) or not low <= seen.count <= high:
            return "▕" + self.style(body, fg=IVORY, bg=JET) + "▏"
        at = round((seen.count - low) * scale)
        return (
            "▕"
            + self.style(body[:at], fg=IVORY, bg=JET)
            + self.style(cursor, fg=AMBER, bg=JET, bold=True)
            + self.style(body[at + 1 :], fg=IVORY, bg=JET)
            + "▏"
        )

    def _trips(self, session: Session, width: int) -> list[str]:
        station = session.station
        if not session.bench.trips:
            return []
        lines = [self.style("trips", fg=GREY)]
        for name, tripper in station.decisions.trippers.items():
            since = station.on_since.get(name)
            ago = "" if since is None else clock(station.decisions.clock.now - since)
            when = f"since {ago}" if tripper.on else f"last {ago} ago" if ago else ""
            state = f"{'ON' if tripper.on else 'off':<4}{when:<18}"
            rest = (tripper.trip.about or str(tripper.trip))[: max(0, width - NAME - 26)]
            style = {"fg": RED, "bold": True} if tripper.on else {}
            lines.append(f"{name[:NAME]:<{NAME}}  {self.style(state, **style)}  {rest}")
        return lines

    def _drives(self, controls: Controls, width: int) -> list[str]:
        session = controls.desk.session
        sender, hands = session.sender, session.hands
        if not session.bench.drives:
            return []
        how = "armed" if sender.armed else "disarmed: shown, not sent; --arm sends"
        if sender.wire is not None and not sender.armed:
            how = "disarmed: shown, not sent; a arms"
        if sender.failure:
            how = f"NOT SENT: {sender.failure}"
        lines = [self.style(f"drives ({how})"[:width], fg=RED if sender.failure else GREY)]
        for name, driver in session.station.decisions.drivers.items():
            drive = driver.drive
            text = as_shown(f"{drive.text(driver.command)} {symbol(drive.unit)}".strip())
            bar = _bar(drive, driver.command, max(0, min(24, width - 52)))
            why = session.station.why_safe(name)
            state = f"SAFE: {why}" if driver.safe else ""
            if name in hands.gates_off:
                state = "GATE OFF"
            source = f"= {drive.text(hands.commands[name])}" if name in hands.commands else ""
            source = source or f"← {drive.source}"
            marked = self.style.name(name, name == controls.chosen)
            line = f"  {text:>9}  {bar}  {source:<14}"[: width - NAME - 5]
            state = state[: max(4, width - NAME - len(line) - 1)]
            hue = AMBER if name in hands.gates_off else BLUE
            by_hand = name in hands.words
            line = self.style(line, fg=AMBER, bold=True) if by_hand else line
            lines.append(marked + line + " " + self.style(state, fg=hue, bold=True))
        return lines

    def _foot(self, controls: Controls, width: int) -> list[str]:
        session = controls.desk.session
        lines = []
        flagged = [
            f"{name} {'+'.join(flag_names(seen.flags))}"
            for name, seen in session.station.seen.items()
            if seen.flags & ~Flag.HELD
        ]
        if flagged:
            lines.append(self.style(("flags: " + ", ".join(flagged))[:width], fg=RED))
        parser = session.station.parser
        recorder = session.parts.recorder
        held = [f"{name} {at.text}" for name, at in session.hands.held.items()]
        held += [f"{name} {word.replace('_', ' ')}" for name, word in session.hands.words.items()]
        notes = (
            f"BY HAND: {', '.join(held)}" if held else "",
            f"not in the stream: {', '.join(parser.absent)}" if parser.absent else "",
            recorder.failure if recorder is not None else "",
            controls.message or session.progress.message,
        )
        shown = [line for text in notes for line in textwrap.wrap(text, width)[:3]]
        lines += [self.style(text, fg=AMBER, bg=JET) for text in shown]
        # What clears the rest of the screen takes the last cell of a line that fills it.
        if controls.entry is not None:
            asked = f"{controls.prompt}{controls.entry}_"
            lines.append(self.style(asked[1 - width :], bold=True))
        elif controls.helps:
            lines += [self.style(line, fg=GREY) for line in _all_keys(width - 1)]
        else:
            lines.append(self.style(_help_line(width - 1), fg=GREY))
        return lines


def _help_line(width: int) -> str:
    """The keys that fit one line."""
    first = "? keys  q end  space all off"
    short = {"t": "trace", "h": "hold", "=": "value", "u": "release", "g": "gate", "a": "arm"}
    line = first
    for key, word in short.items():
        if len(line) + len(key) + len(word) + 3 <= width:
            line += f"  {key} {word}"
    return as_shown(line[:width])


def _all_keys(width: int) -> list[str]:
    """Every key with its meaning, in as many columns as there is room for."""
    cells = [f"{shown:>5}  {means}" for shown, _, means in KEYS]
    wide = max(map(len, cells)) + 2
    columns = max(1, width // wide)
    return [
        as_shown("".join(f"{cell:<{wide}}" for cell in cells[i : i + columns]))[:width]
        for i in range(0, len(cells), columns)
    ]


def _row_head(width: int) -> str:
    head = f"{'channel':<{NAME}}{'counts':>{COUNT}}{'volts':>{VOLTS}}{'value':>{VALUE}}"
    room = width - len(head) - 2 - ENDS
    return head if room < 8 else f"{head}  {'':<{room}}{'ends seen':>{ENDS}}"


def _volts(channel: Channel, count: float) -> str:
    first = channel.ruler.laws[0]
    if not isinstance(first, Adc) or first.vref is None or none(count):
        return "–"
    return f"{count / first.full_count * first.vref:.3f} V"


def _bad(session: Session) -> str:
    bad = session.bad
    total = sum(bad.values()) - bad["header"]
    cells = sum(session.station.parser.unreadable.values())
    kinds = ", ".join(f"{kind} {n}" for kind, n in bad.most_common() if kind != "header" and n)
    text = f"{total} bad line{'s' * (total != 1)}" + (f" ({kinds})" if kinds else "")
    return text + (f", {cells} cells no number" if cells else "")


def _bar(drive: Drive, command: float, room: int) -> str:
    low, high = drive.bounds
    if room < 4 or high <= low:
        return ""
    filled = round((command - low) / (high - low) * room)
    return "█" * filled + "░" * (room - filled)


def _labels(marks: Sequence[tuple[int, str]], room: int) -> str:
    """The labels of ticks, centred under them; those that would touch are left out."""
    line, free = [" "] * room, 0
    for place, label in marks:
        start = max(place + 1 - len(label) // 2, 0)
        if start >= free and start + len(label) <= room:
            line[start : start + len(label)] = label
            free = start + len(label) + 1
    return "".join(line)


def _ends(channel: Channel, seen: SeenRange) -> tuple[float, float]:
    """The ends of the raw edge; of an input without a range, what has been seen of it."""
    try:
        return raw_ends(channel.ruler)
    except ParameterError:
        if seen.lowest < seen.highest:
            return seen.lowest, seen.highest
        middle = 0.0 if math.isnan(seen.count) else seen.count
        return middle - 1.0, middle + 1.0
