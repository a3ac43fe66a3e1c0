"""The budget of a reading, for `jetruler explain --budget`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..core.error_types import JetRulerError
from ..core.model.channel import Channel
from ..core.uncertainty.budget import Budget, budget
from .common import finite_or_none

if TYPE_CHECKING:
    from ..core.uncertainty.simulate import Simulation


def budget_text(channel: Channel, at: float, draws: str | None, **given: float) -> str:
    """The budget for people; checked by Monte Carlo if draws are asked for."""
    text = str(budget(channel, at, **given))
    return text if draws is None else f"{text}\n\n{_drawn(channel, at, draws, given)}"


def _drawn(channel: Channel, at: float, draws: str, given: dict[str, Any]) -> Simulation:
    from ..core.uncertainty.simulate import simulate

    if draws != "stable" and not draws.isdecimal():
        raise JetRulerError(f"--draws: found {draws!r}; a whole number or `stable` is right")
    return simulate(channel, at, draws=None if draws == "stable" else int(draws), **given)


def budget_as_dict(
    channel: Channel, at: float, draws: str | None, **given: float
) -> dict[str, Any]:
    """For JSON; NaN is null, and so are infinite degrees of freedom."""
    found = budget(channel, at, **given)
    data: dict[str, Any] = {"budget": _data(found)}
    if draws is not None:
        run = _drawn(channel, at, draws, given)
        data["simulation"] = {
            "draws": run.values.size,
            "lost": run.lost,
            "mean": finite_or_none(run.mean),
            "standard_uncertainty": finite_or_none(run.standard),
            "interval": [finite_or_none(end) for end in run.interval],
            "end_standard_error": finite_or_none(run.end_error),
            "first_order_will_do": run.first_order,
        }
    return data


def _data(found: Budget) -> dict[str, Any]:
    return {
        "rows": [
            {
                "source": row.source,
                "size": row.size,
                "standard_uncertainty": row.standard,
                "unit": row.unit,
                "sensitivity": finite_or_none(float(row.sensitivity)),
                "effect": finite_or_none(float(row.effect)),
                "fraction": finite_or_none(found.fraction(row)),
                "kind": "random" if row.random else "systematic",
                "note": row.note,
            }
            for row in found.rows
        ],
        "combined": finite_or_none(found.combined),
        "systematic": finite_or_none(found.systematic),
        "random": finite_or_none(found.random),
        "degrees_of_freedom": finite_or_none(found.degrees),
        "coverage_factor": finite_or_none(found.factor),
        "expanded": finite_or_none(found.expanded),
        "level": found.level,
    }
