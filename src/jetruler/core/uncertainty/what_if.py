"""What a better part would bring: the budget before and after, side by side."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from ..bench.channel import Channel, channel_of, raw_at
from ..error_types import ParameterError
from ..result import Content, Result, TextTable, refuses
from ..ruler.base_law import parameters
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law, Ruler
from ..ruler.units import nearest, number, symbol
from .budget import budget
from .budget_result import Budget

#: Parameters of a channel, beside those of its laws, that a budget depends on.
OF_CHANNEL = ("noise", "dissipation")


@dataclass(frozen=True, eq=False, repr=False)
class WhatIf(Result):
    """Two budgets of one raw value.

    Attributes
    ----------
    before : Budget
        The budget of the channel as it is.
    after : Budget
        The budget with the changes.
    changes : Mapping[str, str]
        What was changed, by parameter.

    Examples
    --------
    >>> import jetruler as jr
    >>> bean = jr.load_bench("bench.toml")["bean"]
    >>> found = jr.what_if(bean, 400, {"r0": "100 kohm ± 1 %"})
    >>> found.after.expanded_uncertainty < found.before.expanded_uncertainty
    True
    """

    before: Budget
    """The budget of the channel as it is."""
    after: Budget
    """The budget with the changes."""
    changes: Mapping[str, str]
    """What was changed, by parameter."""

    @property
    def headline(self) -> str:
        unit = symbol(self.before.unit)
        was, now = self.before.expanded_uncertainty, self.after.expanded_uncertainty
        change = 100.0 * (now - was) / was if was else 0.0
        more = "more" if change > 0 else "less"
        level = f"at {number(100 * self.before.level)} %"
        changes = ", ".join(f"{name} = {value}" for name, value in self.changes.items())
        return (
            f"with {changes}: ± {number(now, 3)} {unit} instead of ± {number(was, 3)} {unit} "
            + (
                f"{level}, {abs(change):.0f} % {more}"
                if abs(change) >= 0.5
                else f"{level}, no less"
            )
        )

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        now = {row.source: float(row.effect) for row in self.after.rows}
        was = {row.source: float(row.effect) for row in self.before.rows}
        sources = list(dict.fromkeys([*was, *now]))
        return {
            "source": sources,
            "before": [was.get(source, 0.0) for source in sources],
            "after": [now.get(source, 0.0) for source in sources],
        }

    @property
    def content(self) -> Content:
        unit = symbol(self.before.unit)
        table = self.table
        rows = [
            [source, f"{number(was, 3)}", f"{number(now, 3)}"]
            for source, was, now in zip(
                table["source"], table["before"], table["after"], strict=True
            )
        ]
        rows.append(
            ["combined", f"{number(self.before.combined, 3)}", f"{number(self.after.combined, 3)}"]
        )
        heading = ["source", f"effect before {unit}", f"effect after {unit}"]
        return [TextTable(heading, rows), "", self.headline]


@refuses
def what_if(
    channel: Channel | Ruler | Law, at: Quantityish, changes: Mapping[str, str], **given: Any
) -> WhatIf:
    """Return the budget of a reading with other parts beside the present one.

    Parameters
    ----------
    channel : Channel | Ruler | Law
        As it is.
    at : float
        The raw value.
    changes : Mapping[str, str]
        Parameters with their new values, as a bench file would have them: `{"r0": "100 kohm ±
        1 %"}`; `beta.r0` says of which law. `noise` and `dissipation` are the channel's.
    **given
        As for `budget`: noise, readings, dof, level.

    Returns
    -------
    WhatIf
        Both budgets.

    Raises
    ------
    ParameterError
        For a parameter that no law has, or a value that cannot be.

    Examples
    --------
    >>> import jetruler as jr
    >>> bean = jr.load_bench("bench.toml")["bean"]
    >>> print(jr.what_if(bean, 400, {"r0": "100 kohm ± 1 %"}).headline)
    with r0 = 100 kohm ± 1 %: ± 3.88 °C instead of ± 4.36 °C at 95 %, 11 % less
    """
    channel = channel_of(channel)
    changed, at = channel, raw_at(channel, at)
    for name, value in changes.items():
        changed = _with(changed, name, value)
    return WhatIf(budget(channel, at, **given), budget(changed, at, **given), dict(changes))


def has_parameter(channel: Channel, name: str) -> bool:
    """Whether a what-if can name this of a channel."""
    return name in OF_CHANNEL or bool(_indices(channel, name))


def _indices(channel: Channel, name: str) -> list[int]:
    """Which laws have a parameter of this name."""
    of, _, short = name.rpartition(".")
    return [
        i
        for i, law in enumerate(channel.chain.laws)
        if short in parameters(type(law)) and of in ("", law.name)
    ]


def _with(channel: Channel, name: str, value: str) -> Channel:
    """The channel with one parameter changed."""
    if name in OF_CHANNEL:
        try:
            return replace(channel, **{name: float(value)})  # type: ignore[arg-type]
        except ValueError:
            raise ParameterError(name, value, "a number") from None
    short, laws, indices = name.rpartition(".")[2], channel.chain.laws, _indices(channel, name)
    if len(indices) != 1:
        known = [f"{law.name}.{field}" for law in laws for field in parameters(type(law))]
        if indices:
            each = " or ".join(f"{laws[i].name}.{short}" for i in indices)
            raise ParameterError(name, value, each, "several laws have it")
        why = nearest(name, [*known, *OF_CHANNEL])
        raise ParameterError(name, value, f"a parameter of {channel.name}", why)
    changed: list[Law] = list(laws)
    changed[indices[0]] = replace(laws[indices[0]], **{short: _value(value)})  # type: ignore[type-var]
    return replace(channel, chain=Ruler(tuple(changed)))


def _value(text: str) -> str | float:
    """A bare number is one in the parameter's own unit."""
    try:
        return float(text)
    except ValueError:
        return text
