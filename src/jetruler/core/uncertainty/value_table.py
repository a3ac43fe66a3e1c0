"""A ruler as a table: raw values, what is at each joint, the value, how far to trust it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from ..bench.channel import Channel, channel_of, raw_from
from ..error_types import JetRulerError, ParameterError
from ..numerics import Array
from ..result import Content, Result, TextTable, Title, refuses
from ..ruler.base_law import FRACTION
from ..ruler.quantity import Quantityish, amount, as_typed, unit_given
from ..ruler.raw_range import raw_ends
from ..ruler.ruler import Law, Ruler
from ..ruler.units import number, raw_symbol, rounded, significant, symbol
from .budget import expanded_uncertainty

#: Rows of a table at most: what is longer is no table for people.
LONGEST = 100_000
#: Rows where no step is given, about.
USUAL = 32


@dataclass(frozen=True, eq=False, repr=False)
class ValueTable(Result):
    """The values of a channel at raw values in equal steps, or at equal steps of its own.

    Attributes
    ----------
    channel : str
        Name of the channel.
    raw : Array
        Raw values, shape (n,), ascending.
    raw_unit : str | None
        Their unit.
    joints : dict[str, Array]
        What is at each joint before the last, by its unit: volts, ohms.
    values : Array
        The values; NaN where there is none.
    texts : tuple[str, ...]
        The values as a converted log has them.
    unit : str | None
        Unit of the values.
    expanded : Array | None
        Expanded uncertainty of each at 95 %, where the bench says what it follows from.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Attenuator(10e3, 3300)
    >>> jr.value_table(ruler, every=1024).values.round(2)
    array([ 0.  ,  3.33,  6.65,  9.98, 13.3 ])
    """

    channel: str
    """Name of the channel."""
    raw: Array
    """Raw values, shape (n,), ascending."""
    raw_unit: str | None
    """Their unit."""
    joints: dict[str, Array]
    """What is at each joint before the last, by its unit: volts, ohms."""
    values: Array
    """The values; NaN where there is none."""
    texts: tuple[str, ...]
    """The values as a converted log has them."""
    unit: str | None
    """Unit of the values."""
    expanded: Array | None
    """Expanded uncertainty of each at 95 %, where the bench says what it follows from."""

    @property
    def headline(self) -> str:
        """What it is a table of."""
        return f"{self.channel}: {self.raw.size} rows"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        """Raw values, joints, values and uncertainties, by their units."""
        columns: dict[str, Sequence[Any]] = {raw_symbol(self.raw_unit): self.raw.tolist()}
        columns |= {symbol(unit): values.tolist() for unit, values in self.joints.items()}
        labels = [text or None for text in self.texts]
        is_number = all(math.isnan(v) or _is_number(t) for v, t in zip(self.values, self.texts))  # noqa: B905
        columns[self._value_name] = self.values.tolist() if is_number else labels
        if self.expanded is not None:
            columns[f"± {symbol(self.unit)}".rstrip()] = self.expanded.tolist()
        return columns

    @property
    def _value_name(self) -> str:
        unit = symbol(self.unit)
        return f"{self.channel} {unit}".rstrip()

    def rows(self) -> tuple[list[str], list[list[str]]]:
        """Headings and cells as texts."""
        columns = [[number(raw) for raw in self.raw.tolist()]]
        columns += [[_cell(v) for v in values.tolist()] for values in self.joints.values()]
        columns += [list(self.texts)]
        if self.expanded is not None:
            columns += [[_two(half) for half in self.expanded.tolist()]]
        return list(self.table), [list(row) for row in zip(*columns, strict=True)]

    @property
    def content(self) -> Content:
        """The table under its title."""
        headings, rows = self.rows()
        return [Title(self.headline), TextTable(headings, rows, 0)]

    def to_csv(self) -> str:
        """The table as CSV, a point in each number."""
        headings, rows = self.rows()
        lines = [",".join(f'"{h}"' if "," in h else h for h in headings)]
        return "\n".join([*lines, *(",".join(row) for row in rows)]) + "\n"

    def to_latex(self) -> str:
        """The table as LaTeX, with rules of the package booktabs."""
        headings, rows = self.rows()
        lines = [" & ".join(map(_latex, row)) + r" \\" for row in (headings, *rows)]
        head = rf"\begin{{tabular}}{{{'r' * len(headings)}}}"
        body = [head, r"\toprule", lines[0], r"\midrule", *lines[1:], r"\bottomrule"]
        return "\n".join([*body, r"\end{tabular}"]) + "\n"


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True


def _cell(value: float) -> str:
    return "" if math.isnan(value) else number(significant(value, 6)).replace("−", "-")


def _two(half: float) -> str:
    return "" if math.isnan(half) else rounded(half, half)[1]


_LATEX = {"%": r"\%", "&": r"\&", "_": r"\_", "#": r"\#", "°": r"$^\circ$", "Ω": r"$\Omega$"}
_LATEX |= {"±": r"$\pm$", "−": "$-$", "µ": r"$\mu$", "²": "$^2$", "³": "$^3$"}


def _latex(text: str) -> str:
    return "".join(_LATEX.get(sign, sign) for sign in text)


@refuses
def value_table(
    channel: Channel | Ruler | Law,
    every: Quantityish | None = None,
    over: Sequence[Quantityish] | None = None,
) -> ValueTable:
    """A channel as a table.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        What it is a table of.
    every : float | str, optional
        The step: a number of raw values, or a text with the unit of the result (`"5 degC"`), of
        which the rows are then multiples. About thirty rows if left out.
    over : (low, high), optional
        Where it begins and ends: raw values, or texts as `explain --at` takes them. The whole
        range, or the limits of the channel, if left out.

    Returns
    -------
    ValueTable
        With `to_frame`, `to_csv` and `to_latex`.

    Raises
    ------
    ParameterError
        For a step that is not above 0, makes too many rows, or has a unit of neither edge.

    Examples
    --------
    >>> import jetruler as jr
    >>> bean = jr.Adc(12) >> jr.Divider("10 kohm") >> jr.Beta("100 kohm", 3950)
    >>> print(jr.value_table(bean, every="50 degC", over=(400, 3800)).to_csv())
    count,fraction,Ω,ruler °C,± °C
    681.596,0.166446,1996.82,150.0,0.045
    1682.66,0.410905,6975.2,100.0,0.020
    3202.49,0.782049,35881.8,50.0,0.021
    <BLANKLINE>
    """
    channel = channel_of(channel)
    low, high = _ends(channel, over)
    raw = _by_value(channel, every, low, high)
    if raw is None:
        raw = _by_raw(channel, every, low, high)
    return _tabled(channel, raw)


def _ends(channel: Channel, over: Sequence[Quantityish] | None) -> tuple[float, float]:
    if over is not None:
        if len(over) != 2:
            raise ParameterError("over", over, "where it begins and ends, as in (0, 4095)")
        first, last = (raw_from(channel, end, "over") for end in over)
        return min(first, last), max(first, last)
    low, high = raw_ends(channel.ruler)
    if channel.limits is None:
        return low, high
    try:
        ends = np.asarray(channel.ruler.inverse(np.array(channel.limits)), np.float64)
    except JetRulerError:  # it turns back somewhere: no count can be named
        return low, high
    inside = np.sort(np.clip(ends, low, high)) if np.all(np.isfinite(ends)) else (low, high)
    return float(inside[0]), float(inside[1])


def _step(every: float, name: str, span: float) -> float:
    if not (math.isfinite(every) and every > 0):
        raise ParameterError("every", name, "a step above 0")
    if span / every > LONGEST:
        raise ParameterError("every", name, f"a step that makes at most {LONGEST} rows")
    return every


def _by_value(channel: Channel, every: Quantityish | None, low: float, high: float) -> Array | None:
    """The raw values of multiples of a step of the result; None where the step is a raw one."""
    text = as_typed(every)
    written = unit_given("every", text)
    if not isinstance(text, str) or written in (None, "count", channel.ruler.takes):
        return None
    step = float(amount("every", text, channel.unit, difference=True))
    values = np.asarray(channel.chain(np.linspace(low, high, 2049)), np.float64)
    values = values[np.isfinite(values)]
    if not values.size:
        raise ParameterError("over", (low, high), f"a range in which {channel.name} has values")
    first, last = float(values.min()), float(values.max())
    _step(step, text, last - first)
    wanted = np.arange(math.ceil(first / step - 1e-9), math.floor(last / step + 1e-9) + 1) * step
    raw = np.asarray(channel.chain.inverse(wanted), np.float64)
    return np.sort(raw[(raw >= low) & (raw <= high)])


def _by_raw(channel: Channel, every: Quantityish | None, low: float, high: float) -> Array:
    edge = channel.ruler.edge
    least = (edge.lsb if edge is not None else 0.0) or 0.0
    if every is None:
        step = max(significant((high - low) / USUAL, 1), least) or 1.0
    else:
        given = channel.raw_difference("every", as_typed(every))
        step = _step(float(given), str(every), high - low)
    rows = low + step * np.arange(math.floor((high - low) / step + 1e-9) + 1)
    return np.union1d(rows, [high]).astype(np.float64)


def _tabled(channel: Channel, raw: Array) -> ValueTable:
    ruler = channel.ruler
    joints: dict[str, Array] = {}
    for before in channel.chain.from_the_pin:
        if before.gives not in (None, ruler.gives, ruler.takes):
            joints[before.gives] = np.asarray(before(raw), np.float64)
    if "V" in joints:
        joints.pop(FRACTION, None)  # of what is known in volts
    values = np.asarray(ruler(raw), np.float64)
    expanded = None
    if ruler.label(0.0) is None:
        found = expanded_uncertainty(channel, raw)
        expanded = found if np.any(found > 0) else None
    texts = tuple(channel.cells(values.tolist()))
    return ValueTable(
        channel.name,
        raw=raw,
        raw_unit=ruler.takes,
        joints=joints,
        values=values,
        texts=texts,
        unit=ruler.gives,
        expanded=expanded,
    )
