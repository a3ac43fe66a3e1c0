"""Drives are rulers that end in an actuator's range, with a slew limit and a safe value."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from typing import TYPE_CHECKING, Any

from ..error_types import ParameterError
from ..laws.shape import zones_of
from ..result import refuses_fields
from ..ruler.quantity import Quantityish, amount, as_typed, unit_given
from ..ruler.rounding import fixed
from ..ruler.units import for_column, number
from .channel import Channel
from .conditions import FAULTS, flag_errors
from .expected import ExpectedRow, expected_rows
from .modes import LINE_WANTED, WIRE, DriveMode, is_line, wire_error

#: Names that may go out on a wire: nothing that a board could take for more than a name.
OUTPUT = re.compile(r"[A-Za-z][A-Za-z0-9_.-]{0,31}")

_SECONDS = {"s": 1, "min": 60, "h": 3600}

#: Ranges by name: lowest and highest command, and their unit.
RANGES = {
    "duty8": (0.0, 255.0, ""),
    "duty10": (0.0, 1023.0, ""),
    "duty16": (0.0, 65535.0, ""),
    "pulse": (0.0, 20000.0, "us"),
}


@refuses_fields
@dataclass(frozen=True)
class Drive:
    """How a channel, or a trip, moves an actuator.

    Parameters
    ----------
    name : str
        A name of letters, digits and _ that begins with a letter.
    source : str
        Name of the channel or trip that it follows (a trip is 1 while it is on, else 0).
    marks : tuple[tuple[float, float], ...]
        Two or more pairs (value, command), as numbers or texts with a unit: `"80 degC"`. A command
        may be a part of the range: `"50 %"`. The command is linear between marks and constant
        beyond the outer ones.
    safe : float
        The command when there is no valid value.
    range : str | tuple[float, float], default "duty8"
        "duty8", "duty10", "duty16", "pulse" (µs), or two numbers. Every command is within it.
    clamp : tuple[float, float], optional
        (low, high) of the commands, within the range; by default the span of the marks, `off` and
        `safe`.
    dead_band : float, default 0.0
        Commands closer to `off` than this become `off`.
    off : float, optional
        The command for off; by default 0 if the marks reach it, else their smallest command.
    whole : bool, default True
        Whether commands are whole numbers.
    slew : float, optional
        The largest change in commands per second, also as `"40 %/s"` or `"2 V/min"`; the safe value
        is sent at once.
    safe_when : tuple[str, ...], default ()
        Trips that make it safe.
    safe_flags : tuple[str, ...], default FAULTS
        Flags of the source that make it safe.
    output : str, default ""
        Its name on the wire: letters, digits, _, . and -; by default the drive's name.
    decimals : int, optional
        Decimals of its commands; by default up to ten digits.
    wire : str, default "{output}={value}"
        The line that is sent, with the fields `{value}` (the command) and `{output}`.
    about : str, default ""
        A description for people.
    unit : str, default ""
        Unit of the commands; by default that of the range.
    expected : tuple[ExpectedRow, ...], default ()
        Rows `(raw, command)` or `(raw, command, tolerance)` that `check` tests, with raw values of
        its channel.
    gated : str, default ""
        A line that is sent once when the gate is switched off, after the safe value.
    modes : tuple[DriveMode, ...], default ()
        Other ways in which it works, chosen by a trip or by hand.

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
    """A name of letters, digits and _ that begins with a letter."""
    source: str
    """Name of the channel or trip that it follows (a trip is 1 while it is on, else 0)."""
    marks: tuple[tuple[float, float], ...]
    """Two or more pairs (value, command), as numbers or texts with a unit: `"80 degC"`. A command
    may be a part of the range: `"50 %"`. The command is linear between marks and constant beyond
    the outer ones."""
    safe: float
    """The command when there is no valid value."""
    range: str | tuple[float, float] = "duty8"
    """"duty8", "duty10", "duty16", "pulse" (µs), or two numbers. Every command is within it."""
    clamp: tuple[float, float] | None = None
    """(low, high) of the commands, within the range; by default the span of the marks, `off` and
    `safe`."""
    dead_band: float = 0.0
    """Commands closer to `off` than this become `off`."""
    off: float | None = None
    """The command for off; by default 0 if the marks reach it, else their smallest command."""
    whole: bool = True
    """Whether commands are whole numbers."""
    slew: float | None = None
    """The largest change in commands per second, also as `"40 %/s"` or `"2 V/min"`; the safe value
    is sent at once."""
    safe_when: tuple[str, ...] = ()
    """Trips that make it safe."""
    safe_flags: tuple[str, ...] = FAULTS
    """Flags of the source that make it safe."""
    output: str = ""
    """Its name on the wire: letters, digits, _, . and -; by default the drive's name."""
    decimals: int | None = None
    """Decimals of its commands; by default up to ten digits."""
    wire: str = WIRE
    """The line that is sent, with the fields `{value}` (the command) and `{output}`."""
    about: str = ""
    """A description for people."""
    unit: str = ""
    """Unit of the commands; by default that of the range."""
    expected: tuple[ExpectedRow, ...] = ()
    """Rows `(raw, command)` or `(raw, command, tolerance)` that `check` tests, with raw values of
    its channel."""
    gated: str = ""
    """A line that is sent once when the gate is switched off, after the safe value."""
    modes: tuple[DriveMode, ...] = ()
    """Other ways in which it works, chosen by a trip or by hand."""
    bounds: tuple[float, float] = field(init=False, compare=False)
    """What no command ever leaves."""

    if TYPE_CHECKING:  # texts and quantities are read, parts of the range too

        def __init__(
            self,
            name: str,
            source: str,
            marks: Sequence[Sequence[Quantityish]],
            safe: Quantityish,
            range: str | Sequence[Quantityish] = "duty8",
            clamp: Sequence[Quantityish] | None = None,
            dead_band: Quantityish = 0.0,
            off: Quantityish | None = None,
            whole: bool = True,
            slew: Quantityish | None = None,
            safe_when: tuple[str, ...] = (),
            safe_flags: tuple[str, ...] = FAULTS,
            output: str = "",
            decimals: int | None = None,
            wire: str = WIRE,
            about: str = "",
            unit: str = "",
            expected: Sequence[ExpectedRow | Sequence[Quantityish]] = (),
            gated: str = "",
            modes: Sequence[DriveMode] = (),
        ) -> None: ...

    def __post_init__(self) -> None:
        for key in ("marks", "safe", "range", "clamp", "dead_band", "off", "slew"):
            object.__setattr__(self, key, as_typed(getattr(self, key)))
        for error in self.errors():
            raise error
        if self.off is None:
            commands = [command for _, command in self.marks]
            off = 0.0 if min(commands) <= 0 <= max(commands) else min(commands)
            object.__setattr__(self, "off", off)
        object.__setattr__(self, "output", self.output or self.name)
        object.__setattr__(self, "bounds", self._bounds())
        if self.decimals is not None and float.__gt__(*map(float, self._ends_with_decimals())):
            expected = "enough decimals for a command within the clamp"
            raise ParameterError("decimals", self.decimals, expected)

    def _read_commands(self) -> None:
        """Commands given as texts, as numbers: `"50 %"` of the range, `"1.5 ms"`, `"0.4 V"`."""
        if not isinstance(self.range, str):
            written = next((end for end in self.range if isinstance(end, str)), None)
            unit = self.unit or unit_given("range", written) or ""
            object.__setattr__(self, "unit", unit)
            object.__setattr__(self, "range", amount("range", self.range, unit or None))
        elif self.range in RANGES and not self.unit:
            object.__setattr__(self, "unit", RANGES[self.range][2])
        ends = self._ends()
        if ends is None:
            return

        def read(key: str, given: Any) -> Any:
            difference = key in ("dead_band", "slew")
            if self.unit == "%" or not str(given).rstrip().endswith("%"):
                return amount(key, given, self.unit or None, difference)
            part = amount(key, given, "%") * (ends[1] - ends[0]) / 100
            command = part if difference else ends[0] + part
            return float(fixed(command, 0)) if self.whole and not difference else command

        for key in ("safe", "off", "dead_band"):
            object.__setattr__(self, key, read(key, getattr(self, key)))
        rate = re.fullmatch(r"(.+)/\s*(s|min|h)\s*", str(self.slew))
        slew = read("slew", self.slew if rate is None else rate[1])
        object.__setattr__(self, "slew", slew if rate is None else slew / _SECONDS[rate[2]])
        if self.clamp is not None:
            object.__setattr__(self, "clamp", tuple(read("clamp", end) for end in self.clamp))
        object.__setattr__(self, "expected", expected_rows(self.expected, self.unit or None))
        marks = tuple((value, read("marks", command)) for value, command in self.marks)
        object.__setattr__(self, "marks", marks)

    def in_unit(self, unit: str | None) -> Drive:
        """The same with the values of its marks read in the unit of its source.
        Raises `ParameterError`."""
        if not any(isinstance(value, str) for value, _ in self.marks):
            return self
        return replace(self, marks=tuple((amount("marks", v, unit), c) for v, c in self.marks))

    def _bounds(self) -> tuple[float, float]:
        if self.clamp is not None:
            return (float(self.clamp[0]), float(self.clamp[1]))
        hull = [c for _, c in self.marks] + [self.safe] + ([] if self.off is None else [self.off])
        return (float(min(hull)), float(max(hull)))

    @property
    def output_column(self) -> str:
        """Column name of its commands: `<drive>_<unit>`, or the name alone without unit."""
        unit = for_column(self.unit)
        return f"{self.name}_{unit}" if unit else self.name

    def text(self, command: float) -> str:
        """A command as it is sent and written: with the drive's decimals; without decimals of its
        own, without a point where it is whole, and never with a float's noise."""
        if self.decimals is None:
            text = str(int(command)) if command == int(command) else f"{command:.10g}"
            return text if self._is_within(text, command) else repr(command)
        text = fixed(command, self.decimals)
        if not self._is_within(text, command):  # what rounds out of the clamp is rounded into it
            text = self._ends_with_decimals()[command > sum(self.bounds) / 2]
        return text

    def _is_within(self, text: str, command: float) -> bool:
        """Whether a text of a command within the clamp is within it too."""
        low, high = self.bounds
        return low <= float(text) <= high or not low <= command <= high

    def _ends_with_decimals(self) -> tuple[str, str]:
        """The lowest and the highest command that a text with the drive's decimals can say."""
        step = Decimal(1).scaleb(-(self.decimals or 0))
        low, high = (Decimal(repr(float(end))) for end in self.bounds)
        return str(low.quantize(step, ROUND_CEILING)), str(high.quantize(step, ROUND_FLOOR))

    @property
    def addressed(self) -> str:
        """What is sent, but for the value."""
        return self.wire.replace("{output}", self.output)

    def in_mode(self, mode: DriveMode) -> Drive:
        """The drive as it works in a mode."""
        own = {key: getattr(mode, key) for key in ("marks", "clamp", "wire") if getattr(mode, key)}
        return replace(self, **own, modes=(), expected=())

    def line(self, command: float) -> str:
        """The line that is sent, without its end."""
        return self.addressed.replace("{value}", self.text(command))

    def errors(self) -> Iterator[ParameterError]:
        """The errors among the parameters."""
        try:
            self._read_commands()
        except ParameterError as error:
            yield error
            return
        ends = self._ends()
        if ends is None:
            expected = f"one of {', '.join(RANGES)}, or two numbers, the low one first"
            yield ParameterError("range", self.range, expected)
            return
        if len(self.marks) < 2 or len({raw for raw, _ in self.marks}) < len(self.marks):
            expected = "two or more pairs [value, command] with different values"
            yield ParameterError("marks", self.marks, expected)
            return
        low, high = ends
        if self.clamp is not None:
            if not low <= self.clamp[0] <= self.clamp[1] <= high:
                expected = f"two numbers within {number(low)} … {number(high)}, the low one first"
                yield ParameterError("clamp", self.clamp, expected)
                return
            low, high = self.clamp
        fixed = [("safe", self.safe)] + ([] if self.off is None else [("off", self.off)])
        for key, value in [*fixed, *(("marks", c) for _, c in self.marks)]:
            bounds = ends if key == "marks" else (low, high)
            if not bounds[0] <= value <= bounds[1]:
                expected = f"commands within {number(bounds[0])} … {number(bounds[1])}"
                yield ParameterError(key, value, expected)
        if self.whole:
            fixed += [] if self.clamp is None else [("clamp", c) for c in self.clamp]
            for key, value in [*fixed, *(("marks", c) for _, c in self.marks)]:
                if value != math.floor(value):
                    yield ParameterError(key, value, "a whole number, or whole = false")
        if not self.dead_band >= 0:
            yield ParameterError("dead_band", self.dead_band, "0 or more")
        if self.slew is not None and not self.slew > 0:
            yield ParameterError("slew", self.slew, "commands a second, above 0")
        if self.output and not OUTPUT.fullmatch(self.output):
            expected = "up to 32 letters, digits, _, . and -, a letter first"
            yield ParameterError("output", self.output, expected, "it is sent on a wire")
        if self.decimals is not None and not (
            isinstance(self.decimals, int) and 0 <= self.decimals <= 9
        ):
            yield ParameterError("decimals", self.decimals, "a whole number from 0 to 9")
        names = [mode.name for mode in self.modes]
        if len(set(names)) < len(names):
            yield ParameterError("modes", names, "a name for each mode")
        if self.gated and not is_line(self.gated):
            yield ParameterError("gated", self.gated, LINE_WANTED)
        if why := wire_error(self.wire):
            yield ParameterError("wire", self.wire, why)
        if not isinstance(self.safe_when, tuple):
            yield ParameterError("safe_when", self.safe_when, "a tuple of the names of trips")
        if not isinstance(self.safe_flags, tuple):
            yield ParameterError("safe_flags", self.safe_flags, "a tuple of the names of flags")
        else:
            yield from flag_errors("safe_flags", self.safe_flags)
        for mode in self.modes:
            try:
                self.in_mode(mode)
            except ParameterError as error:
                place = f"modes.{mode.name}.{error.name}"
                yield ParameterError(place, error.found, error.expected, error.why)

    def _ends(self) -> tuple[float, float] | None:
        if isinstance(self.range, str):
            return RANGES[self.range][:2] if self.range in RANGES else None
        low, high = self.range
        return (low, high) if low < high else None


def pattern_drives(
    name: str, channel: Channel, outputs: Sequence[str], safe: Sequence[float] | None = None
) -> dict[str, Drive]:
    """Return a drive for each output of a zone's pattern.

    Parameters
    ----------
    name : of all of them; each is called `<name>_<output>`.
    channel : whose last law is `zones` with lists of numbers, one number for each output.
    outputs : names on the wire, in the order of the lists.
    safe : command of each where nothing better is known; 0 if left out.

    Raises
    ------
    ParameterError
        For a channel without patterns, and for outputs or safe values of another number.
    """
    found = zones_of(channel.chain.laws[-1:])
    patterns = () if found is None else found[1].values
    if not patterns or not all(isinstance(pattern, tuple) for pattern in patterns):
        expected = f"none, or zones with lists as in [1, 0, 0] in {channel.name}"
        raise ParameterError("outputs", tuple(outputs), expected)
    width = len(patterns[0])  # type: ignore[arg-type]
    if len(outputs) != width or len(set(outputs)) < width:
        expected = f"{width} different names, one for each place of the patterns"
        raise ParameterError("outputs", tuple(outputs), expected)
    values = tuple(safe) if safe is not None else (0.0,) * width
    if len(values) != width:
        raise ParameterError("safe", values, f"{width} commands, one for each output")
    made = {}
    for index, output in enumerate(outputs):
        commands = [float(pattern[index]) for pattern in patterns]  # type: ignore[index]
        key = f"{name}_{output}".replace(".", "_").replace("-", "_")
        made[key] = Drive(
            key,
            channel.name,
            tuple((float(zone), command) for zone, command in enumerate(commands)),
            safe=values[index],
            range=(min(0.0, *commands, values[index]), max(1.0, *commands, values[index])),
            output=output,
            whole=all(command.is_integer() for command in (*commands, float(values[index]))),
        )
    return made
