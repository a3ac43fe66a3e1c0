"""A conversion that was chosen for firmware, with its proof; the error of one that cannot be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from os import PathLike
from typing import Any

import numpy as np

from .. import OUTER
from ..bench.channel import Channel
from ..error_types import JetRulerError
from ..result import Content, Result, public_fields
from ..ruler.units import symbol
from .program import Program
from .proof import Proof
from .reference import ReferenceValues, takes_counts


class ExportError(JetRulerError):
    """A conversion that cannot be exported as asked; the sentence says what could be.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.export(jr.Channel("k", jr.Counts(16) >> jr.Line(0.3), "k"), "k", "int16")
    ... except jr.errors.ExportError as error:
    ...     print(error)
    k: its counts go up to 65535, which int16 does not hold; --arith int32 does
    """


@dataclass(frozen=True, eq=False, repr=False)
class Exported(Result):
    """A channel's conversion for firmware.

    Attributes
    ----------
    channel : Channel
        The channel.
    name : str
        The program, as the target takes it.
    kind : str
        The form that was chosen, in words.
    program : Program
        The program that was chosen.
    wanted : ReferenceValues
        The values that it is held against, at every count.
    proof : Proof
        Over every count.
    cheaper : str
        What the next cheaper choice would cost in error.
    notes : tuple[str, ...], default ()
        What is left behind.

    Examples
    --------
    >>> import jetruler as jr
    >>> made = jr.export(jr.Channel("k", jr.Counts(8) >> jr.Line(0.5), "k"), "k", scale=2)
    >>> made.proof.worst
    0.0
    """

    channel: Channel
    """The channel."""
    name: str
    """The program, as the target takes it."""
    kind: str
    """The form that was chosen, in words."""
    program: Program
    """The program that was chosen."""
    wanted: ReferenceValues
    """The values that it is held against, at every count."""
    proof: Proof
    """Over every count."""
    cheaper: str
    """What the next cheaper choice would cost in error."""
    notes: tuple[str, ...] = ()
    """What is left behind."""
    float_kind: type[np.floating[Any]] = np.float32
    """The floating-point type that it was proven in."""
    defaults: tuple[float, ...] = ()
    """The arguments of its function behind the count, as the bench file has them."""
    as_float: bool = False
    """Whether the whole result of the program is given as a float, divided by its scale."""

    @property
    def is_float(self) -> bool:
        """Whether its function gives a float."""
        return self.as_float or self.program.arith == "float"

    def text(
        self,
        to: str = "c",
        *,
        selftest: bool = False,
        title: str | None = None,
        struct: bool = False,
    ) -> str:
        """The whole file in "c", "python" or "st" (IEC 61131-3 structured text), as the tool writes
        it. title: what its head says it belongs to; the channel's name if left out. struct: whether
        arguments are fields of a struct too.

        Raises `ExportError` for another language, and for one that computes floats otherwise than
        they were proven.
        """
        return OUTER.code(self, to, selftest, title, struct)

    def save(
        self,
        path: str | PathLike[str],
        *,
        selftest: bool = False,
        title: str | None = None,
        struct: bool = False,
    ) -> None:
        """Write that text; the language follows from the name (.h or .c, .py, .st). The file
        appears whole or not at all. Raises `ExportError` and `OSError`."""
        OUTER.save_code(self, path, selftest, title, struct)

    @property
    def headline(self) -> str:
        return self.lines()[0]

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "what": list(public_fields(self.proof)),
            "value": list(public_fields(self.proof).values()),
        }

    def lines(self) -> list[str]:
        """What was chosen, what it costs, and the proof, for people."""
        p = self.program
        steps = p.operations
        gives = ", given as a float" if self.as_float else ""
        size = f"{p.table_bytes} bytes of tables, about {steps} operations"
        head = f"{self.kind}, {p.arith}{gives}: {size}"
        unit = symbol(self.channel.unit) if self.channel.unit != "zone" else ""
        return [
            head,
            *([self.cheaper] if self.cheaper else []),
            *self.proof.lines(unit, "count" if takes_counts(self.channel) else "step"),
            *self.notes,
        ]

    @property
    def content(self) -> Content:
        return self.lines()

    def _fields(self) -> Mapping[str, Any]:
        return {
            "channel": self.channel.name,
            "name": self.name,
            "form": self.kind,
            "arith": "float" if self.as_float else self.program.arith,
            "scale": self.wanted.scale,
            "table_bytes": self.program.table_bytes,
            "operations": self.program.operations,
            "cheaper": self.cheaper,
            "notes": self.notes,
            "proof": self.proof,
        }
