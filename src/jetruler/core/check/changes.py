"""Changes of a bench that can be typed: what the rules propose, and what comes of it when it is
tried."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields, replace
from typing import Any

from ..bench.bench import Bench
from ..bench.channel import Channel
from ..bench.drives import Drive
from ..bench.trips import Trip
from ..error_types import JetRulerError
from ..laws import law_line, number_text
from ..ruler.base_law import hint_unit, parameters
from ..ruler.ruler import Law, Ruler, written
from ..ruler.units import significant
from .facts import Facts

#: What a change that makes no sense for a bench raises.
REFUSALS = (JetRulerError, ValueError, TypeError, KeyError, ArithmeticError)


@dataclass(frozen=True)
class Edit:
    """One place of a bench file.

    path: tables and keys; places in lists count from 1. value: TOML; None leaves it out. insert:
    whether an item goes in front of the one that is there.
    """

    path: tuple[str | int, ...]
    value: str | None
    insert: bool = False

    def __str__(self) -> str:
        *above, key = self.path
        text = ".".join(str(part) for part in above if isinstance(part, str))
        text += "".join(f"[{part}]" for part in above if isinstance(part, int))
        if isinstance(key, str):
            return f"{text}: {key} = {self.value}" if self.value else f"{text}: leave out {key}"
        if self.value is None:
            return f"{text}: leave out [{key}]"
        return f"{text}: {'insert ' * self.insert}[{key}] {self.value}"


@dataclass(frozen=True)
class BenchChange:
    """A change that can be typed. edits: in their order. apply: makes it; raises one of `REFUSALS`
    where it makes no sense."""

    edits: tuple[Edit, ...]
    apply: Callable[[Bench], Bench]

    def __str__(self) -> str:
        return "; ".join(map(str, self.edits))


def toml(value: Any, unit: str | None = None) -> str:
    """A value as a bench file has it; kiloohms where there are many ohms."""
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, tuple | list):
        return f"[{', '.join(toml(each, unit) for each in value)}]"
    if unit is None:
        return number_text(value)
    prefix, size = next(
        ((p, s) for p, s in (("M", 1e6), ("k", 1e3)) if unit == "ohm" and value >= s), ("", 1.0)
    )
    return f'"{number_text(significant(value / size, 12))} {prefix}{unit}"'


def law_changed(facts: Facts, i: int, /, **values: Any) -> list[BenchChange]:
    """Other parameters of law i; None leaves one out."""
    law, units = facts.laws[i], parameters(type(facts.laws[i]))
    edits = []
    for name, value in values.items():
        hinted = hint_unit(units[name])
        unit = hinted.symbol if hinted is not None and not hinted.bare else None
        text: str | None = None
        if name == law.pairs_key and value is not None:
            text = _pairs(law, value)
        elif value is not None:
            text = toml(value, unit)
        edits.append(Edit((*facts.path(i), name), text))

    def changed(laws: Sequence[Law]) -> list[Law]:
        return [*laws[:i], replace(laws[i], **values), *laws[i + 1 :]]  # type: ignore[type-var]

    return _relawed(facts, edits, changed)


def _pairs(law: Law, pairs: Sequence[tuple[float, float]]) -> str:
    """Marks or points; with the unit of their raw side where that is not the count."""
    bare = law.takes in (None, "count")
    rows = [
        f"[{number_text(x) if bare else toml(x, law.takes)}, {number_text(y)}]" for x, y in pairs
    ]
    return f"[{', '.join(rows)}]"


def law_inserted(c: Facts, i: int, law: Law) -> list[BenchChange]:
    """A law in front of law i, or behind all."""
    edit = Edit(c.path(i), law_line(law), insert=True)
    return _relawed(c, [edit], lambda laws: [*laws[:i], law, *laws[i:]])


def law_left_out(c: Facts, i: int) -> list[BenchChange]:
    """The channel without law i."""
    return _relawed(c, [Edit(c.path(i), None)], lambda laws: [*laws[:i], *laws[i + 1 :]])


def law_moved(c: Facts, i: int, to: int, **values: Any) -> list[BenchChange]:
    """Law i at another place, counted before it is taken away, with other parameters; its unit
    is that of the new place."""
    law = c.laws[i]
    names = {one.name for one in fields(law)}  # type: ignore[arg-type]
    values = {name: None for name in ("unit", "takes") if name in names} | values
    moved: Law = replace(law, **values)  # type: ignore[type-var]
    place = list(c.path(to))
    if to > i:
        place[-1] = int(place[-1]) - 1
    edits = [Edit(c.path(i), None), Edit(tuple(place), law_line(moved), insert=True)]

    def changed(laws: Sequence[Law]) -> list[Law]:
        rest = [*laws[:to], moved, *laws[to:]]
        del rest[i if i < to else i + 1]
        return rest

    return _relawed(c, edits, changed)


def _relawed(
    c: Facts, edits: Sequence[Edit], laws: Callable[[Sequence[Law]], Sequence[Law]]
) -> list[BenchChange]:
    """A change of the laws of a channel, if such laws make one."""

    def changed(channel: Channel) -> Channel:
        return replace(channel, chain=Ruler(written(tuple(laws(channel.chain.laws)))))

    return _of_channel(c.channel, edits, changed)


def _of_channel(
    channel: Channel, edits: Sequence[Edit], changed: Callable[[Channel], Channel]
) -> list[BenchChange]:
    """A change of a channel, if it makes one; whatever another change has made of it before."""
    try:
        changed(channel)
    except REFUSALS:
        return []
    name = channel.name
    return [BenchChange(tuple(edits), lambda bench: with_channel(bench, changed(bench[name])))]


def with_channel(bench: Bench, channel: Channel) -> Bench:
    """The bench with another channel of this name."""
    return replace(bench, channels={**bench.channels, channel.name: channel})


def channel_changed(
    channel: Channel, key: str, value: Any, unit: str | None = None
) -> list[BenchChange]:
    """Another value of a channel's key."""
    edit = Edit(("channel", channel.name, key), None if value is None else toml(value, unit))
    return _of_channel(channel, [edit], lambda one: replace(one, **{key: value}))


def smoothing_changed(channel: Channel, over: str) -> list[BenchChange]:
    """A channel that is smoothed over another time."""
    edit = Edit(("channel", channel.name, "smooth", "over"), toml(over))
    if channel.smooth is None:
        return []
    smooth = replace(channel.smooth, over=over)
    return _of_channel(channel, [edit], lambda one: replace(one, smooth=smooth))


def condition_changed(trip: Trip, i: int, **values: Any) -> list[BenchChange]:
    """Other values of a trip's condition i, counted from 1."""
    try:
        condition = replace(trip.conditions[i - 1], **values)
        changed = replace(
            trip, conditions=(*trip.conditions[: i - 1], condition, *trip.conditions[i:])
        )
    except REFUSALS:
        return []
    edits = [
        Edit(("trip", trip.name, trip.join, i, key), toml(value)) for key, value in values.items()
    ]
    return [
        BenchChange(
            tuple(edits), lambda bench: replace(bench, trips={**bench.trips, trip.name: changed})
        )
    ]


def drive_changed(drive: Drive, **values: Any) -> list[BenchChange]:
    """Other values of a drive."""
    try:
        changed = replace(drive, **values)
    except REFUSALS:
        return []
    edits = [Edit(("drive", drive.name, key), toml(value)) for key, value in values.items()]
    return [
        BenchChange(
            tuple(edits),
            lambda bench: replace(bench, drives={**bench.drives, drive.name: changed}),
        )
    ]


def together(*changes: BenchChange) -> BenchChange:
    """Several changes at once."""

    def apply(bench: Bench) -> Bench:
        for change in changes:
            bench = change.apply(bench)
        return bench

    return BenchChange(tuple(edit for change in changes for edit in change.edits), apply)
