"""How a session stands at one moment, for whoever shows it: nothing in it changes afterwards."""

from __future__ import annotations

import math
import time
from dataclasses import dataclass, field

from ..core.decide.drives import Drive
from ..core.decide.trips import Trip
from ..core.laws.adc import Adc
from ..core.model.channel import Channel
from ..core.model.reading import Flag, flag_names
from .desk import Desk
from .history import Window


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
        """Volts at the pin; NaN where nothing tells them."""
        first = self.channel.ruler.laws[0]
        if not isinstance(first, Adc) or first.vref is None or not self.has_count:
            return math.nan
        return self.count / first.full_count * first.vref


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


def snapshot(desk: Desk, span: float = 60.0, columns: int = 0) -> Snapshot:
    """How a session stands now; to be called in the thread that runs it. columns: of the windows
    that show the last `span` seconds; without any there is none."""
    session = desk.session
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
        bad=_bad(desk),
        channels=tuple(_channel(desk, name, elapsed, span, columns) for name in session.bench),
        trips=tuple(_trips(desk)),
        drives=tuple(_drives(desk)),
        turns=tuple(session.station.turns),
        notes=tuple(filter(None, _notes(desk))),
        armed=session.sender.armed,
        wire="" if session.sender.wire is None else session.sender.wire.name,
        failure=session.sender.failure,
        bench_path=session.parts.bench_path,
        log=tuple(session.log),
    )


def _channel(desk: Desk, name: str, elapsed: float, span: float, columns: int) -> ChannelState:
    session = desk.session
    seen, held = session.station.seen[name], session.hands.held.get(name)
    history = session.station.history[name] if columns else None
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


def _trips(desk: Desk) -> list[TripState]:
    station = desk.session.station
    clock = station.decisions.clock.now
    since = {name: clock - at for name, at in station.on_since.items()}
    trippers = station.decisions.trippers.items()
    return [TripState(each.trip, each.on, since.get(name)) for name, each in trippers]


def _drives(desk: Desk) -> list[DriveState]:
    session = desk.session
    hands, station = session.hands, session.station
    return [
        DriveState(
            driver.drive,
            driver.command,
            safe=station.why_safe(name),
            gate=name not in hands.gates_off,
            source=driver.drive.source,
            by_hand=hands.commands.get(name),
            word=hands.words.get(name, ""),
        )
        for name, driver in station.decisions.drivers.items()
    ]


def _notes(desk: Desk) -> list[str]:
    session = desk.session
    flagged = [
        f"{name} {'+'.join(flag_names(seen.flags))}"
        for name, seen in session.station.seen.items()
        if seen.flags & ~Flag.HELD
    ]
    held = [f"{name} {at.text}" for name, at in session.hands.held.items()]
    held += [f"{name} {word.replace('_', ' ')}" for name, word in session.hands.words.items()]
    recorder = session.parts.recorder
    return [
        f"flags: {', '.join(flagged)}" if flagged else "",
        f"BY HAND: {', '.join(held)}" if held else "",
        recorder.failure if recorder is not None else "",
    ]


def _bad(desk: Desk) -> str:
    """Lines and cells that were none, in words."""
    session = desk.session
    bad = session.bad
    torn = session.station.lines.torn
    total = sum(bad.values()) - bad["header"] + torn
    cells = sum(session.station.lines.unreadable.values())
    counts = [(kind, n) for kind, n in bad.most_common() if kind != "header" and n]
    counts += [("torn", torn)] if torn else []
    kinds = ", ".join(f"{kind} {n}" for kind, n in counts)
    text = f"{total} bad line{'s' * (total != 1)}" + (f" ({kinds})" if kinds else "")
    return text + (f", {cells} cells no number" if cells else "")
