"""What somebody changes while a bench runs: held and set values, made-up counts, a bench file that
was saved again."""

from __future__ import annotations

import re
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from ..benchfile.load import load_bench
from ..core.bench.bench import Bench
from ..core.bench.channel import Channel, raw_from
from ..core.bench.channel_reader import NO_COUNT
from ..core.check.check import check
from ..core.error_types import JetRulerError, ParameterError
from ..core.numerics import Array
from ..core.result import Findings
from ..core.ruler.quantity import seconds
from ..core.ruler.units import number
from ..samples.cells import Samples
from .sources import StreamError


@dataclass(frozen=True)
class Injection:
    """From one raw value to another and back, each in `within` seconds; None is a missing sample.
    whole: as a converter gives it."""

    low: float | None
    high: float | None = None
    within: float = 0.0
    whole: bool = True

    @property
    def text(self) -> str:
        """What it is, for people."""
        if self.low is None:
            return "missing"
        return number(self.low) + ("" if self.high is None else f" to {number(self.high)}")

    def column(self, at: Array) -> Samples:
        """The counts at this many seconds since the start."""
        if self.low is None:
            return Samples(np.full(at.size, NO_COUNT), np.ones(at.size, np.bool_))
        if self.high is None:
            return Samples(np.full(at.size, self.low, np.int64 if self.whole else np.float64))
        fraction = np.abs((at / self.within) % 2 - 1)  # 1 at the start, 0 at the turn
        raw = self.high + (self.low - self.high) * fraction
        return Samples(np.rint(raw).astype(np.int64) if self.whole else raw)


def injections(
    bench: Bench, constants: tuple[str, ...], sweeps: tuple[str, ...]
) -> dict[str, Injection]:
    """What the options say. Raises `StreamError`."""
    found: dict[str, Injection] = {}
    for text in constants:
        name, _, value = text.partition("=")
        channel = _known(bench, "--inject", text, name)
        raw = None
        if value.strip() != "missing":
            raw = raw_from(channel, value, f"--inject {text}", whole=True)
        found[name] = Injection(raw, whole=channel.ruler.takes == "count")
    for text in sweeps:
        match = re.fullmatch(r"(?P<name>[^=]+)=([^:]+):([^/]+)/(.+)", text)
        within = seconds(_spaced(match[4])) if match else float("nan")
        expected = "damper=0:4095/10s"
        if match is None or not 0 < within < float("inf"):
            raise StreamError(f"--sweep: expected {expected}, found {text!r}")
        channel = _known(bench, "--sweep", text, match["name"])
        low, high = (raw_from(channel, match[i], f"--sweep {text}", whole=True) for i in (2, 3))
        whole = channel.ruler.takes == "count"
        found[channel.name] = Injection(low, high, within, whole)
    return found


def _spaced(text: str) -> str | float:
    return float(text) if re.fullmatch(r"[\d.]+", text) and text.count(".") < 2 else text


def _known(bench: Bench, option: str, text: str, name: str) -> Channel:
    try:
        return bench.measured(name)
    except ParameterError as error:
        raise StreamError(f"{option} {text}: {error}") from None


@dataclass
class Overrides:
    """Channels that are held, drives that are set or fed from elsewhere, and gates.

    held: raw values in place of a channel's own. commands: by drive, in place of what it follows.
    sources: what a drive follows instead of what the bench says. gates_off: drives at their safe
    value whatever they follow.
    """

    held: dict[str, Injection] = field(default_factory=dict)
    commands: dict[str, float] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    gates_off: set[str] = field(default_factory=set)
    modes: dict[str, str] = field(default_factory=dict)
    """The modes that somebody chose, by drive."""

    @property
    def words(self) -> dict[str, str]:
        """What is unlike the bench about each drive, as outputs write it."""
        found = {drive: f"mode_{mode}" for drive, mode in self.modes.items()}
        found |= dict.fromkeys(self.sources, "fed") | dict.fromkeys(self.commands, "held")
        return found | dict.fromkeys(sorted(self.gates_off), "gate_off")

    def applied(self, bench: Bench) -> Bench:
        """The bench with drives fed as somebody wants; what is gone from it is forgotten."""
        self.held = {name: at for name, at in self.held.items() if name in bench.channels}
        self.commands = {name: at for name, at in self.commands.items() if name in bench.drives}
        self.gates_off &= set(bench.drives)
        self.modes = {
            name: mode
            for name, mode in self.modes.items()
            if name in bench.drives and mode in {one.name for one in bench.drives[name].modes}
        }
        known = {*bench, *bench.trips}
        self.sources = {
            drive: source
            for drive, source in self.sources.items()
            if drive in bench.drives and source in known
        }
        if not self.sources:
            return bench
        drives = dict(bench.drives)
        for drive, source in self.sources.items():
            drives[drive] = replace(drives[drive], source=source)
        return replace(bench, drives=drives)


#: Seconds that reading a bench may take; what takes longer is left alone.
PATIENCE = 5.0


class BenchReloader:
    """One attempt. `ready` tells when there is a bench, or a reason why there is none."""

    def __init__(self, path: str) -> None:
        self.bench: Bench | None = None
        self.why = ""
        self._path = path
        self._until = time.monotonic() + PATIENCE
        self._done = threading.Event()
        threading.Thread(target=self._work, name="jetruler-bench", daemon=True).start()

    def ready(self) -> bool:
        """Whether it is decided."""
        if self._done.is_set():
            return True
        if time.monotonic() > self._until:
            self.bench, self.why = None, f"reading it takes longer than {PATIENCE:g} s"
            return True
        return False

    def _work(self) -> None:
        try:
            bench = load_bench(self._path)
            for channel in bench.channels.values():
                channel.ruler.compiled()  # the tables that the loop would otherwise wait for
            self.bench = bench
        except JetRulerError as error:
            self.why = str(error)
        except Exception as error:  # whatever is wrong with it, the last good one stays
            self.why = f"it cannot be used: {type(error).__name__}: {error}"
        self._done.set()


class BenchChecker:
    """What `check` finds in a bench that runs, found beside the loop. done: is handed the findings,
    and a sentence about them, by a thread."""

    def __init__(self, bench: Bench, done: Callable[[Findings, str], None]) -> None:
        self._bench, self._done = bench, done
        self._thread = threading.Thread(target=self._work, name="jetruler-check", daemon=True)
        self._thread.start()

    def wait(self) -> None:
        """Until it is done, for up to a second."""
        self._thread.join(1.0)

    def _work(self) -> None:
        try:
            found = check(self._bench)
        except Exception as error:  # the stream goes on
            self._done(Findings(), f"check cannot be run: {type(error).__name__}: {error}")
        else:
            self._done(found, found.alert)


class FileWatcher:
    """Looks at a file now and then."""

    def __init__(self, path: str) -> None:
        self._path = Path(path)
        self._known = self._last = self._state()

    def again(self) -> bool:
        """Whether it is another one than was known, and the same as at the last look."""
        now, last = self._state(), self._last
        self._last = now
        if now == self._known or now != last:
            return False
        self._known = now
        return True

    def _state(self) -> tuple[int, int] | None:
        try:
            found = self._path.stat()
        except OSError:
            return None
        return found.st_mtime_ns, found.st_size
