"""How the live view writes: colours, names, times."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import click

from ..core.model.reading import Flag
from .streams import as_shown

if TYPE_CHECKING:
    from ..live.station import SeenRange

AMBER, IVORY, JET = (0xFF, 0xB0, 0x00), (0xF4, 0xEC, 0xD8), (0x16, 0x14, 0x0F)
BLUE, RED, GREY = (0x5A, 0xA9, 0xE6), (0xFF, 0x6B, 0x55), (0x8A, 0x85, 0x78)
#: Cells of a name, of a value, and of the ends of a scale.
NAME, VALUE, ENDS = 10, 11, 13


@dataclass(frozen=True)
class Style:
    """Styles texts; without colour they stay as they are."""

    colour: bool

    def __call__(self, text: str, **how: object) -> str:
        return click.style(text, **how) if self.colour else text  # type: ignore[arg-type]

    def flagged(self, text: str, flagged: bool) -> str:
        """A piece of a trace: red where it is flagged."""
        return self(text, fg=RED if flagged else BLUE)

    def hue(self, seen: SeenRange) -> tuple[int, int, int] | None:
        """Amber for what is held, red for what is flagged otherwise."""
        if seen.flags & Flag.HELD:
            return AMBER
        return RED if seen.flags else None

    def name(self, name: str, chosen: bool) -> str:
        """A name, marked where it is chosen."""
        if not chosen:
            return f"{name[:NAME]:<{NAME}}"
        mark = as_shown("›")
        return self(f"{mark + name[: NAME - len(mark)]:<{NAME}}", fg=AMBER, bold=True)


def none(count: float) -> bool:
    """Whether there is no count: a missing one stands outside every converter."""
    return count != count or abs(count) > 2**40


def clock(seconds: float) -> str:
    """A time for people: `12.3 s`, `1:05 min`."""
    if seconds < 60:
        return f"{seconds:.1f} s"
    return f"{int(seconds // 60)}:{int(seconds % 60):02d} min"
