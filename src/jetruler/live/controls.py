"""Control of a running session by hand, and its state at a moment, for a display."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Collection
from dataclasses import dataclass, field
from functools import wraps
from typing import TYPE_CHECKING, Concatenate, ParamSpec, TypeVar

from ..core.bench.channel import Channel, raw_from
from ..core.bench.drives import Drive
from ..core.bench.trips import Trip
from ..core.ruler.raw_range import raw_ends
from ..core.ruler.reading import Flag, flag_names
from ..core.ruler.units import nearest, number, symbol
from ..core.survey.ends import Ends, ends_of, true_ends
from ..logs.look_at import survey_of
from .overrides import Injection
from .sources import StreamError
from .stream_processor import Window

if TYPE_CHECKING:
    from .session import Session


P = ParamSpec("P")
Answer = TypeVar("Answer")
Control = Callable[Concatenate["OperatorControls", P], Answer]


def in_session(control: Control[P, Answer]) -> Control[P, Answer]:
    """Do it in the thread that runs the session, whoever asks."""

    @wraps(control)
    def call(self: OperatorControls, /, *args: P.args, **options: P.kwargs) -> Answer:
        return self.session.ask(lambda: control(self, *args, **options))

    return call


class OperatorControls:
    """What can be done to a session. Every call takes effect at once, is noted in the record and
    the events, and raises `StreamError` with what would be right."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.marks = 0
        self.last_marks: list[tuple[float, str]] = []
        """Moments that were marked, in seconds since the start."""

    @property
    def armed(self) -> bool:
        """Whether commands are sent."""
        return self.session.sender.armed

    @in_session
    def arm(self) -> None:
        """Send the drives' commands from now on: their safe values first, and on from there."""
        session = self.session
        if not session.bench.drives:
            raise StreamError("arm: expected a bench with drives, found none; add a [drive.<name>]")
        if session.sender.wire is None:
            raise StreamError(
                f"arm: expected a source that takes commands, found {session.parts.source.name} "
                "(name a port with --sink)"
            )
        if not session.sender.armed:
            session.arm()
            self._note("", "armed", "")

    @in_session
    def disarm(self) -> None:
        """Send the safe values, and nothing from then on."""
        if self.session.sender.armed:
            self.session.sender.disarm(0.2)
            self._note("", "disarmed", "")

    @in_session
    def all_off(self) -> None:
        """Switch every drive's gate off: all go to their safe values at once."""
        self._gates(self.session.bench.drives, on=False)

    @in_session
    def gate(self, drive: str, on: bool) -> None:
        """Switch a drive's gate. While it is off the drive stays at its safe value."""
        self._known(drive, self.session.bench.drives, "drive")
        self._gates([drive], on)

    def _gates(self, drives: Collection[str], on: bool) -> None:
        off = self.session.overrides.gates_off
        changed = [name for name in drives if (name in off) == on]
        off.difference_update(changed) if on else off.update(changed)
        self.session.act()
        for name in changed:
            self._note(name, "gate_on" if on else "gate_off", "")
            if not on and (line := self.session.bench.drives[name].gated):
                self.session.sender.say(line)

    @in_session
    def mode(self, drive: str, name: str | None) -> None:
        """Choose a mode of a drive by hand; None gives the choice back to its trips."""
        self._known(drive, self.session.bench.drives, "drive")
        modes = self.session.overrides.modes
        if name is None:
            modes.pop(drive, None)
        else:
            named = [mode.name for mode in self.session.bench.drives[drive].modes]
            self._known(name, named, f"mode of {drive}")
            modes[drive] = name
        self._note(drive, "mode", name or "")

    @in_session
    def say(self, name: str) -> None:
        """Send one of the lines that the bench has by name, once."""
        wire = self.session.bench.wire
        line = None if wire is None else wire.named(name)
        if line is None:
            named = {} if wire is None else dict(wire.lines)
            raise StreamError(
                f"expected a line of the bench, found {name!r}: {nearest(name, named)}"
            )
        if not self.session.sender.armed:
            raise StreamError(f"line {name}: not armed, so nothing was sent")
        self.session.sender.say(line)
        self._note(name, "sent", line)

    @in_session
    def hold(self, channel: str, value: float | str | None = None) -> float:
        """Hold a channel at a raw value, and return it. A number is raw; a text may have a unit,
        that of the channel goes back through the inverse; None is the present value."""
        self._known(channel, self.session.bench.channels, "channel")
        known = self.session.bench[channel]
        if value is None:
            raw = self._present(known)
        else:
            raw = raw_from(known, value, f"channel {channel}", whole=True)
        whole = known.ruler.takes == "count"
        self.session.overrides.held[channel] = Injection(raw, whole=whole)
        self.session.act()
        self._note(channel, "held", number(raw))
        return raw

    @in_session
    def nudge(self, channel: str, steps: float) -> float:
        """Move what is held by this many steps of the raw value, within its range: its resolution,
        or a thousandth of the range if that is unknown."""
        self._known(channel, self.session.bench.channels, "channel")
        known = self.session.bench[channel]
        low, high = raw_ends(known.ruler)
        held = self.session.overrides.held.get(channel)
        at = self._present(known) if held is None or held.low is None else held.low
        edge = known.ruler.edge
        step = float(edge.lsb) if edge is not None and edge.lsb else (high - low) / 1000.0
        return self.hold(channel, float(min(max(at + steps * step, low), high)))

    @in_session
    def release(self, name: str) -> None:
        """Let a channel, or a drive, follow again what the bench says."""
        overrides, bench = self.session.overrides, self.session.bench
        self._known(name, [*bench.channels, *bench.drives], "channel or drive")
        if name in bench.channels:
            held = overrides.held.pop(name, None) is not None
        else:
            held = overrides.commands.pop(name, None) is not None
            if overrides.sources.pop(name, None) is not None:
                held = True
                self.session.feed_drives()
        if held:
            self.session.act()
            self._note(name, "released", "")

    @in_session
    def set(self, drive: str, command: float | str) -> float:
        """Set a drive by hand. Its clamp, slew limit and trips hold for hands too."""
        self._known(drive, self.session.bench.drives, "drive")
        known = self.session.bench.drives[drive]
        try:
            wanted = float(command) if not isinstance(command, str) else _plain(command, known.unit)
        except ValueError:
            wanted = math.nan
        low, high = known.bounds
        if not low <= wanted <= high:
            raise StreamError(
                f"drive {drive}: expected a command within {number(low)} … {number(high)}, found "
                f"{command!r}"
            )
        self.session.overrides.commands[drive] = wanted
        self.session.act()
        self._note(drive, "held", known.text(wanted))
        return wanted

    @in_session
    def nudge_drive(self, drive: str, steps: float) -> float:
        """Move a drive that is set by hand by this many hundredths of its range."""
        self._known(drive, self.session.bench.drives, "drive")
        low, high = self.session.bench.drives[drive].bounds
        driver = self.session.processor.decisions.drivers[drive]
        at = self.session.overrides.commands.get(drive, driver.command)
        step = max((high - low) / 100.0, 1.0 if driver.drive.whole else 0.0)
        return self.set(drive, min(max(at + steps * step, low), high))

    @in_session
    def feed(self, drive: str, source: str) -> None:
        """Let a drive follow another channel, or a trip."""
        bench = self.session.bench
        self._known(drive, bench.drives, "drive")
        self._known(source, [*bench, *bench.trips], "channel or trip")
        self.session.overrides.commands.pop(drive, None)
        self.session.overrides.sources[drive] = source
        self.session.feed_drives()
        self.session.act()
        self._note(drive, "fed", source)

    @in_session
    def reset_ends(self) -> None:
        """Look for the ends again."""
        self.session.processor.forget_ends()

    @in_session
    def ends(self, channel: str) -> str:
        """The marks that a channel's travel has shown since they were reset, as a line for a bench
        file."""
        found, low, high = self.ends_seen(channel)
        return found.line(low, high)

    def ends_seen(self, channel: str) -> tuple[Ends, float, float]:
        """Those ends, and what they mean: 0 and 100, or what the channel's marks say."""
        self._known(channel, self.session.bench.channels, "channel")
        known = self.session.bench[channel]
        raw = self.session.processor.history[channel].raw
        return ends_of(survey_of(known, raw)), *true_ends(known)

    @in_session
    def write_ends(self, channel: str) -> str:
        """Put these ends into the bench file as marks, and return the lines that it has now."""
        self._bench_path()
        return self.write_marks(channel, *self.ends_seen(channel))

    def write_marks(self, channel: str, ends: Ends, at_low: float, at_high: float) -> str:
        """Put ends that somebody has seen into the bench file as marks, and return the lines that
        it has now."""
        path = self._bench_path()
        from ..benchfile.edit import write_marks

        change = write_marks(path, channel, ends.marks(at_low, at_high))
        self._note(channel, "marks", ends.line(at_low, at_high))
        return change.after

    def _bench_path(self) -> str:
        path = self.session.parts.bench_path
        if path is None:
            raise StreamError("expected a bench file to write the marks into, found none")
        return path

    @in_session
    def name_mark(self, number: int, text: str) -> None:
        """Give a moment that was marked a text."""
        at, _ = self.last_marks[number - 1]
        self.last_marks[number - 1] = (at, text)
        self._note(f"mark {number}", "named", text)

    @in_session
    def mark(self, text: str = "") -> int:
        """Mark this moment, in the record and the events; its number is returned."""
        self.marks += 1
        self.last_marks.append((self.session.elapsed, text or f"mark {self.marks}"))
        self._note(f"mark {self.marks}", "mark", text)
        return self.marks

    def _present(self, channel: Channel) -> float:
        seen = self.session.processor.seen[channel.name].count
        if seen != seen or abs(seen) > 2**40:
            raise StreamError(
                f"channel {channel.name}: expected a value to hold, found none yet; give it"
            )
        return seen

    def _known(self, name: str, names: Collection[str], noun: str) -> None:
        if name not in names:
            raise StreamError(f"expected a {noun}, found {name!r}: {nearest(name, names)}")

    def _note(self, name: str, what: str, value: str) -> None:
        text = " ".join(part for part in (name, what, value) if part)
        self.session.noted(name, what, value)
        self.session.progress.message = text


def _plain(text: str, unit: str) -> float:
    return float(text.removesuffix(symbol(unit)).removesuffix(unit).strip() if unit else text)


@dataclass(frozen=True)
class ChannelState:
    """A channel: its last count and value, the lowest and highest count seen, flags, and what it
    did in the time that is shown. held: the raw value that somebody holds it at."""

    channel: Channel
    count: float
    value: float
    lowest: float
    highest: float
    flags: int
    held: str = ""
    window: Window | None = None

    @property
    def has_count(self) -> bool:
        """Whether there is a count: a missing one stands outside every converter."""
        return self.count == self.count and abs(self.count) <= 2**40

    @property
    def volts(self) -> float:
        """Volts at the pin; NaN if nothing determines them."""
        converter = self.channel.ruler.converter
        if converter is None or converter.vref is None or not self.has_count:
            return math.nan
        return self.count / (converter.full_count or math.nan) * converter.vref


@dataclass(frozen=True)
class TripState:
    """A trip. since: seconds since it turned on last; None if it never did."""

    trip: Trip
    on: bool
    since: float | None


@dataclass(frozen=True)
class DriveState:
    """A drive. safe: why it is at its safe value; empty where it is not. source: what it follows.
    by_hand: the command that somebody set."""

    drive: Drive
    command: float
    safe: str
    gate: bool
    source: str
    by_hand: float | None
    word: str


@dataclass(frozen=True)
class Snapshot:
    """A session at one moment."""

    title: str
    source: str
    elapsed: float
    state: str
    """"waiting", "stale" or "live"."""
    silent: float
    """Seconds since the last sample."""
    why_gone: str
    returns: int
    rate: float
    bad: str
    channels: tuple[ChannelState, ...]
    trips: tuple[TripState, ...]
    drives: tuple[DriveState, ...]
    turns: tuple[tuple[float, str, bool], ...]
    """When trips turned, in seconds since the start."""
    notes: tuple[str, ...]
    """What is to be known: what is held, missing or not recorded."""
    armed: bool
    wire: str
    """Where commands could go; empty for nowhere."""
    failure: str
    bench_path: str | None
    log: tuple[str, ...] = field(default=(), repr=False)
    """What happened, newest last."""

    @property
    def names(self) -> list[str]:
        """What can be chosen: channels, then drives."""
        channels = [state.channel.name for state in self.channels]
        return [*channels, *(d.drive.name for d in self.drives if d.drive.name not in channels)]

    def channel(self, name: str) -> ChannelState | None:
        """A channel by its name."""
        return next((state for state in self.channels if state.channel.name == name), None)

    def drive(self, name: str) -> DriveState | None:
        """A drive by its name."""
        return next((state for state in self.drives if state.drive.name == name), None)


def snapshot(controls: OperatorControls, span: float = 60.0, columns: int = 0) -> Snapshot:
    """How a session is now; to be called in the thread that runs it. columns: of the windows
    that show the last `span` seconds; without any there is none."""
    session = controls.session
    now, progress = time.monotonic(), session.progress
    elapsed = now - progress.started
    state = "live"
    if progress.last_sample is None:
        state = "waiting"
    elif progress.stale or not progress.connected:
        state = "stale"
    return Snapshot(
        title=session.bench.title or "bench",
        source=session.parts.source.name,
        elapsed=elapsed,
        state=state,
        silent=now - (progress.last_sample or progress.started),
        why_gone=progress.why_gone,
        returns=progress.returns,
        rate=progress.rate(now),
        bad=_bad(controls),
        channels=tuple(_channel(controls, name, elapsed, span, columns) for name in session.bench),
        trips=tuple(_trips(controls)),
        drives=tuple(_drives(controls)),
        turns=tuple(session.processor.turns),
        notes=tuple(filter(None, _notes(controls))),
        armed=session.sender.armed,
        wire="" if session.sender.wire is None else session.sender.wire.name,
        failure=session.sender.failure,
        bench_path=session.parts.bench_path,
        log=tuple(session.log),
    )


def _channel(
    controls: OperatorControls, name: str, elapsed: float, span: float, columns: int
) -> ChannelState:
    session = controls.session
    seen, held = session.processor.seen[name], session.overrides.held.get(name)
    history = session.processor.history[name] if columns else None
    return ChannelState(
        session.bench[name],
        seen.count,
        seen.value,
        lowest=seen.lowest,
        highest=seen.highest,
        flags=seen.flags,
        held="" if held is None else held.text,
        window=None if history is None else history.window(elapsed, span, columns),
    )


def _trips(controls: OperatorControls) -> list[TripState]:
    processor = controls.session.processor
    clock = processor.decisions.clock.now
    since = {name: clock - at for name, at in processor.on_since.items()}
    trippers = processor.decisions.trippers.items()
    return [TripState(each.trip, each.on, since.get(name)) for name, each in trippers]


def _drives(controls: OperatorControls) -> list[DriveState]:
    session = controls.session
    overrides, processor = session.overrides, session.processor
    return [
        DriveState(
            driver.drive,
            driver.command,
            safe=processor.why_safe(name),
            gate=name not in overrides.gates_off,
            source=driver.drive.source,
            by_hand=overrides.commands.get(name),
            word=overrides.words.get(name, ""),
        )
        for name, driver in processor.decisions.drivers.items()
    ]


def _notes(controls: OperatorControls) -> list[str]:
    session = controls.session
    flagged = [
        f"{name} {'+'.join(flag_names(seen.flags))}"
        for name, seen in session.processor.seen.items()
        if seen.flags & ~Flag.HELD
    ]
    held = [f"{name} {at.text}" for name, at in session.overrides.held.items()]
    held += [f"{name} {word.replace('_', ' ')}" for name, word in session.overrides.words.items()]
    recorder = session.parts.recorder
    return [
        f"flags: {', '.join(flagged)}" if flagged else "",
        f"BY HAND: {', '.join(held)}" if held else "",
        recorder.failure if recorder is not None else "",
    ]


def _bad(controls: OperatorControls) -> str:
    """Lines and cells that were none, in words."""
    session = controls.session
    bad = session.bad
    torn = session.processor.lines.torn
    total = sum(bad.values()) - bad["header"] + torn
    cells = sum(session.processor.lines.unreadable.values())
    counts = [(kind, n) for kind, n in bad.most_common() if kind != "header" and n]
    counts += [("torn", torn)] if torn else []
    kinds = ", ".join(f"{kind} {n}" for kind, n in counts)
    text = f"{total} bad line{'s' * (total != 1)}" + (f" ({kinds})" if kinds else "")
    return text + (f", {cells} cells no number" if cells else "")
