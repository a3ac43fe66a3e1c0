"""What a target is: a language that conversions are written in. One class a language."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from ..core.firmware.machine import Machine
from ..core.firmware.program import FUNCTIONS, LARGEST, ProgramModel
from ..core.firmware.selection import Exported
from ..core.firmware.threshold import Threshold
from ..core.model.channel import Bench


@dataclass(frozen=True)
class Wish:
    """What a file shall hold beside the conversions."""

    bench: Bench
    version: str
    thresholds: Sequence[Threshold] = ()
    text_width: int | None = None
    selftest: bool = False
    machines: Sequence[Machine] = ()
    """Smoothing, holding zones, trips and drives."""


class Target(ABC):
    """A language: what it can compute, and how a whole file in it is written.

    The same input gives the same bytes.
    """

    name: ClassVar[str]
    #: The type in which its floats are computed.
    float_kind: ClassVar[type[np.floating[Any]]] = np.float32
    #: The functions that its floats may call.
    functions: ClassVar[frozenset[str]] = frozenset(FUNCTIONS)
    #: Whether it has functions that write a value for a display.
    writes_text: ClassVar[bool] = False
    #: Whether it writes smoothing, holding zones, trips and drives.
    writes_machines: ClassVar[bool] = False

    @abstractmethod
    def file(self, exported: Sequence[Exported], wish: Wish) -> str:
        """Return the whole file: comments, tables, functions, machines, self-test."""


def vectors(e: Exported, many: int = 48) -> list[tuple[int, str]]:
    """Counts over the whole range with what they must give; the ends and the knots among them."""
    counts = e.wanted.counts
    places = set(np.linspace(0, counts.size - 1, min(many, counts.size)).astype(int).tolist())
    for table in e.program.tables.values():
        places |= {k - int(counts[0]) for k in table if counts[0] <= k <= counts[-1]} if (
            len(table) < 200 and list(table) == sorted(table)) else set()  # fmt: skip
    chosen = counts[sorted(places)]
    outputs = ProgramModel(e.program).run(chosen).tolist()
    none = -LARGEST.get(e.program.arith, 0) - 1
    return [
        (int(n), "none" if y != y or (e.program.arith != "float" and y == none) else repr(y))
        for n, y in zip(chosen.tolist(), outputs, strict=True)
    ]
