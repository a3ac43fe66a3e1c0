"""What a drive consists of: its modes, and the lines that go out on its wire (the template of a
command, set-up lines, and lines by name)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from ..error_types import ParameterError
from ..numerics import AnyArray, Array, Truths
from ..result import refuses_fields

#: What is sent if a drive says nothing else, and the fields that a line may have.
WIRE = "{output}={value}"
FIELDS = ("{value}", "{output}")


@refuses_fields
@dataclass(frozen=True)
class WireLines:
    """Lines that an actuator's controller is sent besides commands.

    Parameters
    ----------
    setup : tuple[str, ...], default ()
        Lines that are sent before the safe values, when drives are armed and when a lost wire
        returns.
    lines : tuple[tuple[str, str], ...], default ()
        Lines by name, each sent once on request.

    Raises
    ------
    ParameterError
        For what is no line of plain signs.

    Examples
    --------
    >>> import jetruler as jr
    >>> dict(jr.WireLines(("MODE 1",), {"restart": "RST"}).lines)
    {'restart': 'RST'}
    """

    setup: tuple[str, ...] = ()
    """Lines that are sent before the safe values, when drives are armed and when a lost wire
    returns."""
    lines: tuple[tuple[str, str], ...] = ()
    """Lines by name, each sent once on request."""

    if TYPE_CHECKING:  # a mapping is read as pairs

        def __init__(self, setup: Sequence[str] = (), lines: Mapping[str, str] = ...) -> None: ...

    def __post_init__(self) -> None:
        pairs = self.lines.items() if isinstance(self.lines, Mapping) else self.lines
        object.__setattr__(self, "lines", tuple((str(k), v) for k, v in pairs))
        object.__setattr__(self, "setup", tuple(self.setup))
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """What is wrong with it."""
        pairs = dict(self.lines).items()
        named = [(f"lines.{name}", text) for name, text in pairs]
        for place, text in [*((f"setup[{i}]", t) for i, t in enumerate(self.setup, 1)), *named]:
            if not is_line(text):
                yield ParameterError(place, text, LINE_WANTED)

    def named(self, name: str) -> str | None:
        """The line of a name; None for one that is not there."""
        return dict(self.lines).get(name)


#: What a line that is sent may be.
LINE_WANTED = "a line of up to 80 plain signs"


def is_line(text: object) -> bool:
    """Whether a text may go out as a line."""
    return isinstance(text, str) and 0 < len(text) <= 80 and all(" " <= s <= "~" for s in text)


def wire_error(wire: object) -> str:
    """What is wrong with a template; empty where nothing is."""
    expected = f"a line with {FIELDS[0]} in it, as in {WIRE!r} or 'M{{value}}'"
    if not isinstance(wire, str) or "{value}" not in wire:
        return expected
    rest = wire
    for name in FIELDS:
        rest = rest.replace(name, "")
    if "{" in rest or "}" in rest:
        return f"{expected}, and no other field than {' and '.join(FIELDS)}"
    if not is_line(wire):
        return f"{expected}, of at most 80 plain signs"
    return ""


@refuses_fields
@dataclass(frozen=True)
class DriveMode:
    """One way in which a drive works; what it leaves out is as the drive says.

    Parameters
    ----------
    name : str
        Name of the mode.
    when : str, default ""
        The trip that selects the mode while it is on.
    marks : tuple[tuple[float, float], ...], optional
        Pairs (value, command); by default those of the drive.
    clamp : tuple[float, float], optional
        (low, high) of its commands, within the drive's range.
    wire : str, default ""
        The line that is sent.
    gate : bool, default True
        Whether commands pass; if not, the drive is at its safe value.

    Raises
    ------
    ParameterError
        For a line without a value, and a clamp upside down.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.DriveMode("slow", when="hot", clamp=(0, 80)).gate
    True
    """

    name: str
    """Name of the mode."""
    when: str = ""
    """The trip that selects the mode while it is on."""
    marks: tuple[tuple[float, float], ...] | None = None
    """Pairs (value, command); by default those of the drive."""
    clamp: tuple[float, float] | None = None
    """(low, high) of its commands, within the drive's range."""
    wire: str = ""
    """The line that is sent."""
    gate: bool = True
    """Whether commands pass; if not, the drive is at its safe value."""

    if TYPE_CHECKING:  # lists are read too

        def __init__(
            self,
            name: str,
            when: str = "",
            marks: Sequence[Sequence[float]] | None = None,
            clamp: Sequence[float] | None = None,
            wire: str = "",
            gate: bool = True,
        ) -> None: ...

    def __post_init__(self) -> None:
        for error in self.errors():
            raise error

    def errors(self) -> Iterator[ParameterError]:
        """What is wrong with it."""
        if not isinstance(self.name, str) or not self.name.strip():
            yield ParameterError("name", self.name, "a name")
        if self.clamp is not None and not self.clamp[0] < self.clamp[1]:
            yield ParameterError("clamp", self.clamp, "two numbers, the low one first")
        if self.wire and (why := wire_error(self.wire)):
            yield ParameterError("wire", self.wire, why)


def places(
    modes: Sequence[DriveMode], trips: Mapping[str, Truths], by_hand: str | None, many: int
) -> AnyArray:
    """The mode at each of many samples: its place among the modes from 1, 0 where none is chosen.
    The first whose trip is on has it; by_hand: the name of one that somebody chose."""
    found = np.zeros(many, np.int64)
    for place, mode in reversed(list(enumerate(modes, 1))):
        if mode.when:
            found[trips[mode.when]] = place
        if by_hand == mode.name:
            found[:] = place
            break
    return found


def stretches(modes: AnyArray) -> Iterator[tuple[int, slice]]:
    """The stretches of one mode."""
    borders = [0, *(np.flatnonzero(np.diff(modes)) + 1).tolist(), modes.size]
    for first, last in pairwise(borders):
        if last > first:
            yield int(modes[first]), slice(first, last)


def joined(parts: Sequence[tuple[Array, Truths]]) -> tuple[Array, Truths]:
    """Commands, and where they are safe, of stretches one behind the other."""
    if not parts:
        return np.empty(0), np.zeros(0, np.bool_)
    return np.concatenate([c for c, _ in parts]), np.concatenate([s for _, s in parts])
