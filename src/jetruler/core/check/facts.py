"""What the rules look at: one channel, evaluated over all its counts once."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import Any

import numpy as np

from ..bench.channel import Channel
from ..error_types import ParameterError
from ..laws.circuit import Divider
from ..numerics import AnyArray, Array
from ..result import Finding, Severity
from ..ruler.base_law import FRACTION, Role
from ..ruler.converter import Converter
from ..ruler.raw_range import raw_ends, raw_samples
from ..ruler.ruler import Law, written

#: Two pairs (raw, true).
Marked = tuple[tuple[float, float], tuple[float, float]]


class Facts:
    """A channel, its laws, and its values over the counts.

    noise: standard deviation of one reading in counts, if anybody knows it.
    """

    def __init__(self, channel: Channel, noise: float | None = None) -> None:
        self.channel, self.laws = channel, channel.chain.laws
        self.noise = channel.noise if noise is None else noise

    def place(self, law: int, field: str = "") -> str:
        """`channel.bean.laws[2 beta].r0`, counted as the bench file counts."""
        number = self._number(law)
        inner = f"channel.{self.channel.name}"
        if number:
            inner += f".laws[{number} {self.laws[law].name}]"
        else:
            inner += ".converter" if self.channel.chain.converter is not None else ".input"
        return f"{inner}.{field}" if field else inner

    def _number(self, law: int) -> int:
        """Which of the laws of the bench file it is, counted from 1; 0 for a raw edge that has a
        table of its own."""
        return len(written(self.laws[:law])) + (
            self.channel.lists_edge or self.channel.chain.edge is None
        )

    def path(self, law: int) -> tuple[str | int, ...]:
        """The same place as tables and keys."""
        inner = ("channel", self.channel.name)
        if number := self._number(law):
            return (*inner, "laws", number)
        return (*inner, "input" if self.channel.chain.converter is None else "converter")

    def key(self, name: str) -> str:
        """`channel.bean.limits`."""
        return f"channel.{self.channel.name}.{name}"

    def found(
        self,
        severity: Severity,
        where: str,
        what: str,
        remedy: str,
        changes: Sequence[Any] = (),
    ) -> Finding:
        """A finding of a rule. changes: what it proposes, the likeliest first."""
        return Finding(severity, where, what, remedy, _changes=tuple(changes))

    def of(self, role: Role) -> list[tuple[int, Law]]:
        """The laws of a role, with their indices."""
        return [(i, law) for i, law in enumerate(self.laws) if law.role is role]

    @cached_property
    def dividers(self) -> list[tuple[int, Divider]]:
        """The dividers, with their indices: rules about the resistor beside a sensor ask for it."""
        return [(i, law) for i, law in enumerate(self.laws) if isinstance(law, Divider)]

    @cached_property
    def clamps(self) -> list[tuple[int, tuple[float, float]]]:
        """What the laws that keep a value within ends keep it to, with their indices."""
        kept = [(i, law.keeps_within) for i, law in enumerate(self.laws)]
        return [(i, ends) for i, ends in kept if ends is not None]

    @cached_property
    def marked(self) -> list[tuple[int, Law, Marked]]:
        """The laws through two marks, with their indices and marks."""
        return [(i, law, law.marks) for i, law in enumerate(self.laws) if law.marks is not None]

    @property
    def volts_converter(self) -> Converter | None:
        """The converter, if it gives volts or a fraction of its reference."""
        converter = self.channel.chain.converter
        return converter if converter is not None and converter.full_count is not None else None

    @cached_property
    def counts(self) -> Array:
        """The counts that are looked at: all of them, up to 8192 evenly spaced."""
        return raw_samples(self.channel.chain).astype(np.float64)

    @property
    def has_ends(self) -> bool:
        """Whether the range of its raw edge is known."""
        try:
            raw_ends(self.channel.chain)
        except ParameterError:
            return False
        return True

    @cached_property
    def joints(self) -> list[Array]:
        """The values at every joint: the counts, then behind each law."""
        return self.channel.chain.joints(self.counts)

    @property
    def values(self) -> Array:
        """What the counts read."""
        return self.joints[-1]

    @cached_property
    def inside(self) -> AnyArray:
        """Which counts read within the limits (or anything, without limits); not those that a clamp
        has brought there, as long as there are others."""
        if self.channel.limits is None:
            return np.isfinite(self.values)
        low, high = self.channel.limits
        with np.errstate(invalid="ignore"):
            within = (self.values >= low) & (self.values <= high)
            kept = within.copy()
            for i, (least, most) in self.clamps:
                kept &= (self.joints[i] >= least) & (self.joints[i] <= most)
        return kept if kept.any() else within

    @property
    def labelled(self) -> bool:
        """Whether the channel ends in zones."""
        return self.channel.ruler.label(0.0) is not None or bool(self.of(Role.LABEL))

    def ohms(self) -> tuple[int, Divider, float, float] | None:
        """The divider and its index, and the least and most ohms of its sensor within limits."""
        for i, divider in self.dividers:
            seen = self.joints[i + 1][self.inside]
            if self.channel.limits is not None:
                seen = np.concatenate((seen, self.back(i + 1)))
            seen = seen[np.isfinite(seen) & (seen > 0)]
            if seen.size and self.channel.limits is not None:
                return i, divider, float(seen.min()), float(seen.max())
        return None

    def back(self, law: int) -> Array:
        """What is before a law at the two limits: NaN where nothing gives them."""
        if self.channel.limits is None:
            return np.full(2, np.nan)
        y = np.array(self.channel.limits, dtype=np.float64)
        with np.errstate(all="ignore"):
            for one in reversed(self.laws[law:]):
                try:
                    y = one.inverse(y)
                except ValueError:  # it turns back: another rule says so
                    return np.full(2, np.nan)
        return y

    def at_pin(self, law: int, x: Array) -> Array:
        """What is behind the converter when x comes to a law: NaN where nothing gives it."""
        with np.errstate(all="ignore"):
            for one in reversed(self.laws[1:law]):
                try:
                    x = one.inverse(x)
                except ValueError:  # it turns back: another rule says so
                    return np.full(x.shape, np.nan)
        return x

    def supply(self, divider: Divider) -> float | None:
        """What feeds a divider: its own supply, or the converter's reference."""
        own, converter = divider.supply, self.volts_converter
        reference = converter.vref if converter is not None else None
        return own if divider.takes != FRACTION else reference
