"""What remembers, for firmware: state, inputs, and one update, in the small language.

A machine works in whole numbers and milliseconds. What follows from a count alone (is the value
above 225 °C? which command belongs to it?) is a program of its own, made from the live decision at
every count and therefore exact; the machine adds what remembers, and nothing else.
"""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass, field

from .program import Program


@dataclass(frozen=True)
class Machine:
    """One machine, the same for every target.

    name: of its state (a struct, a class, a function block). update: of the function that moves it
    on. about: what it is, a line each. inputs: whole numbers; `now` is a time in milliseconds that
    may wrap. state: names of what it remembers, with the length of a list or 0 for a number; all
    start at 0. times: those of them that are times. body: statements; the state stands behind
    `s.`, NONE is no value, and `elapsed(now, then, most)` is the time since, at most `most`.
    programs: what it calls and brings along. calls: conversions that it calls, with their
    arithmetic.
    """

    name: str
    update: str
    about: tuple[str, ...]
    inputs: tuple[str, ...]
    state: Mapping[str, int]
    body: str
    times: frozenset[str] = frozenset()
    programs: tuple[Program, ...] = ()
    calls: Mapping[str, str] = field(default_factory=dict)

    @property
    def tree(self) -> list[ast.stmt]:
        """The statements."""
        return ast.parse(self.body).body

    @property
    def narrow(self) -> frozenset[str]:
        """The functions that it calls whose numbers are int16."""
        brought = {program.name for program in self.programs if program.arith == "int16"}
        return frozenset(brought | {name for name, a in self.calls.items() if a == "int16"})

    def brought(self, written: set[str]) -> list[Program]:
        """The programs that it brings along, but for those in `written`; they are noted there."""
        new = {p.name: p for p in self.programs if p.name not in written}
        written.update(new)
        return list(new.values())

    @property
    def uses_time(self) -> bool:
        """Whether it asks how much time has passed."""
        return "elapsed(" in self.body


def indented(lines: str, by: int = 1) -> str:
    """Statements as the body of another one."""
    return "\n".join("    " * by + line for line in lines.splitlines())
