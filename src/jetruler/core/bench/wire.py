"""Lines that go out on a wire: the template of a command, set-up lines, and lines by name."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..error_types import ParameterError
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
