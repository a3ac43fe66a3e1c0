"""Drives: rulers that end in an actuator's range, with slew limit and a safe value."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from ..arrays import Array, Truths
from ..error_types import ParameterError
from ..model.text import number
from ..model.units import for_column
from .conditions import FAULTS, flag_errors

#: Names that may go out on a wire: nothing that a board could take for more than a name.
OUTPUT = re.compile(r"[A-Za-z][A-Za-z0-9_.-]{0,31}")

#: What is sent if a drive says nothing else, and the fields that a line may have.
WIRE = "{output}={value}"
FIELDS = ("{value}", "{output}")

#: Ranges by name: lowest and highest command, and their unit.
RANGES = {
    "duty8": (0.0, 255.0, ""),
    "duty10": (0.0, 1023.0, ""),
    "duty16": (0.0, 65535.0, ""),
    "pulse": (0.0, 20000.0, "us"),
}


@dataclass(frozen=True)
class Drive:
    """How a channel, or a trip, moves an actuator.

    Parameters
    ----------
    name : str
        Letters, digits and _, a letter first.
    source : str
        The channel's or the trip's name (a trip is 1 while it is on, else 0).
    marks : tuple[tuple[float, float], ...]
        Pairs (value, command), two or more; straight between them, and beyond the outer ones as
        at them.
    safe : float
        Sent when nothing better is known.
    range : str | tuple[float, float], default "duty8"
        "duty8", "duty10", "duty16", "pulse" (µs), or any two numbers; commands lie in it.
    clamp : tuple[float, float], optional
        Narrows the range; the hull of the marks, `off` and `safe` if left out.
    dead_band : float, default 0.0
        Commands no further than this from `off` are `off`, so that off is really off.
    off : float, optional
        0 if the marks reach it, else their smallest command.
    whole : bool, default True
        Commands are whole numbers.
    slew : float, optional
        The fastest change in commands a second; to the safe value it goes at once.
    safe_when : tuple[str, ...], default ()
        Trips that send it too.
    safe_flags : tuple[str, ...], default FAULTS
        Flags of the source that do.
    output : str, default ""
        Its name on the wire, of letters, digits, _, . and -; that of the drive if left out.
    decimals : int, optional
        Places of its commands on the wire and in outputs; up to ten digits if left out.
    wire : str, default "{output}={value}"
        The line that is sent. `{value}` is the command, `{output}` the output's name; nothing else
        stands in braces.
    about : str, default ""
        Free text for people.

    Attributes
    ----------
    bounds : tuple[float, float]
        The range of all commands, narrowed by `clamp`.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Examples
    --------
    >>> import jetruler as jr
    >>> drive = jr.Drive("flap", "bean", ((0, 1000), (200, 2000)), safe=1500, range="pulse")
    >>> drive.bounds
    (1000.0, 2000.0)
    """

    name: str
    source: str
    marks: tuple[tuple[float, float], ...]
    safe: float
    range: str | tuple[float, float] = "duty8"
    clamp: tuple[float, float] | None = None
    dead_band: float = 0.0
    off: float | None = None
    whole: bool = True
    slew: float | None = None
    safe_when: tuple[str, ...] = ()
    safe_flags: tuple[str, ...] = FAULTS
    output: str = ""
    decimals: int | None = None
    wire: str = WIRE
    about: str = ""
    bounds: tuple[float, float] = field(init=False, compare=False)
    """What no command ever leaves."""

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error
        if self.off is None:
            commands = [command for _, command in self.marks]
            off = 0.0 if min(commands) <= 0 <= max(commands) else min(commands)
            object.__setattr__(self, "off", off)
        object.__setattr__(self, "output", self.output or self.name)
        object.__setattr__(self, "bounds", self._bounds())

    def _bounds(self) -> tuple[float, float]:
        if self.clamp is not None:
            return (float(self.clamp[0]), float(self.clamp[1]))
        hull = [c for _, c in self.marks] + [self.safe] + ([] if self.off is None else [self.off])
        return (float(min(hull)), float(max(hull)))

    @property
    def unit(self) -> str:
        """Unit of the commands."""
        return RANGES[self.range][2] if isinstance(self.range, str) else ""

    @property
    def output_column(self) -> str:
        """Column name of its commands: `<drive>_<unit>`, or the name alone without unit."""
        unit = for_column(self.unit)
        return f"{self.name}_{unit}" if unit else self.name

    def text(self, command: float) -> str:
        """A command as it is sent and written: with the drive's decimals; without decimals of its
        own, without a point where it is whole, and never with a float's noise."""
        if self.decimals is not None:
            return f"{command + 0.0:.{self.decimals}f}"
        return str(int(command)) if command == int(command) else f"{command:.10g}"

    def line(self, command: float) -> str:
        """The line that is sent, without its end."""
        text = self.wire.replace("{value}", self.text(command))
        return text.replace("{output}", self.output)

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        ends = self._ends()
        if ends is None:
            right = f"one of {', '.join(RANGES)}, or two numbers, the low one first"
            yield ParameterError("range", self.range, right)
            return
        if len(self.marks) < 2 or len({raw for raw, _ in self.marks}) < len(self.marks):
            right = "two or more pairs [value, command] with different values are right"
            yield ParameterError("marks", self.marks, right)
            return
        low, high = ends
        if self.clamp is not None:
            if not low <= self.clamp[0] <= self.clamp[1] <= high:
                right = f"two numbers within {number(low)} … {number(high)}, the low one first"
                yield ParameterError("clamp", self.clamp, right)
                return
            low, high = self.clamp
        fixed = [("safe", self.safe)] + ([] if self.off is None else [("off", self.off)])
        for key, value in [*fixed, *(("marks", c) for _, c in self.marks)]:
            bounds = ends if key == "marks" else (low, high)
            if not bounds[0] <= value <= bounds[1]:
                right = f"commands lie within {number(bounds[0])} … {number(bounds[1])}"
                yield ParameterError(key, value, right)
        if self.whole:
            fixed += [] if self.clamp is None else [("clamp", c) for c in self.clamp]
            for key, value in [*fixed, *(("marks", c) for _, c in self.marks)]:
                if value != math.floor(value):
                    yield ParameterError(key, value, "a whole number, or say whole = false")
        if not self.dead_band >= 0:
            yield ParameterError("dead_band", self.dead_band, "0 or more is right")
        if self.slew is not None and not self.slew > 0:
            yield ParameterError("slew", self.slew, "commands a second, above 0")
        if self.output and not OUTPUT.fullmatch(self.output):
            right = "up to 32 letters, digits, _, . and -, a letter first: it goes out on a wire"
            yield ParameterError("output", self.output, right)
        if self.decimals is not None and not (
            isinstance(self.decimals, int) and 0 <= self.decimals <= 9
        ):
            yield ParameterError("decimals", self.decimals, "a whole number from 0 to 9 is right")
        if why := _wire_error(self.wire):
            yield ParameterError("wire", self.wire, why)
        yield from flag_errors("safe_flags", self.safe_flags)

    def _ends(self) -> tuple[float, float] | None:
        if isinstance(self.range, str):
            return RANGES[self.range][:2] if self.range in RANGES else None
        low, high = self.range
        return (low, high) if low < high else None


def _wire_error(wire: object) -> str:
    """What is wrong with a template; empty where nothing is."""
    right = f"a line with {FIELDS[0]} in it is right, as in {WIRE!r} or 'M{{value}}'"
    if not isinstance(wire, str) or "{value}" not in wire:
        return right
    rest = wire
    for name in FIELDS:
        rest = rest.replace(name, "")
    if "{" in rest or "}" in rest:
        return f"{right}; no other field than {' and '.join(FIELDS)} stands in braces"
    if len(wire) > 80 or not all(" " <= sign <= "~" for sign in wire):
        return f"{right}, of at most 80 plain signs"
    return ""


class Driver:
    """A drive at work: batches of times and values in, commands out. It starts at safe."""

    def __init__(self, drive: Drive) -> None:
        self.drive = drive
        pairs = sorted(drive.marks)
        self._values = np.array([value for value, _ in pairs], dtype=np.float64)
        self._commands = np.array([command for _, command in pairs], dtype=np.float64)
        self._level = float(drive.safe)
        self._time = math.nan
        self.command = float(drive.safe)
        self.safe = True

    def add(
        self, times: Array, values: Array, unsafe: Truths, by_hand: float | None = None
    ) -> tuple[Array, Truths]:
        """The command at each sample, and whether it is the safe value. unsafe: where nothing
        better is known; so it is where there is no value. by_hand: the command that somebody
        wants instead; the clamp, the slew limit and what is unsafe hold for it too."""
        drive = self.drive
        if not times.size:
            return np.empty(0), np.zeros(0, np.bool_)
        safe: Truths = unsafe if by_hand is not None else unsafe | np.isnan(values)
        if by_hand is not None:
            target = np.full(times.size, by_hand)
        else:
            followed = np.where(safe, self._values[0], values)
            target = np.interp(followed, self._values, self._commands)
        off = drive.off or 0.0
        target[np.abs(target - off) <= drive.dead_band] = off
        target = np.clip(target, *drive.bounds)
        target[safe] = drive.safe
        if drive.slew is not None:
            target = self._slewed(times, target, safe)
        if drive.whole:
            target = np.floor(target + 0.5)
        commands = np.clip(target, *drive.bounds) + 0.0
        self.command, self.safe = float(commands[-1]), bool(safe[-1])
        return commands, safe

    def start_at(self, command: float) -> None:
        """Start from where the actuator stands."""
        self._level = min(max(command, self.drive.bounds[0]), self.drive.bounds[1])

    def _slewed(self, times: Array, target: Array, safe: Truths) -> Array:
        """No faster than the slew limit, except to the safe value."""
        start = times[0] if math.isnan(self._time) else self._time
        most = (self.drive.slew or 0.0) * np.diff(times, prepend=start)
        most[safe] = math.inf
        self._time = float(times[-1])
        if np.all(np.abs(np.diff(target, prepend=self._level)) <= most):
            self._level = float(target[-1])
            return target
        out = np.empty(target.size)
        level = self._level
        for i, (goal, limit) in enumerate(zip(target.tolist(), most.tolist(), strict=True)):
            step = goal - level
            level = goal if abs(step) <= limit else level + math.copysign(limit, step)
            out[i] = level
        self._level = level
        return out
