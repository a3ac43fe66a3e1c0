"""Drives with several modes: each with its own line on the wire, marks, clamp or gate."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

from ..error_types import ParameterError
from ..numerics import AnyArray, Array, Truths
from ..result import refuses_fields
from .wire import wire_error

if TYPE_CHECKING:
    from collections.abc import Mapping


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
