"""The bench's rows `expected`: raw values put in, what comes out held against what must."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ..bench.bench import Bench
from ..bench.channel import Channel, raw_from
from ..bench.conditions import faults_of
from ..bench.driver import Driver
from ..bench.drives import Drive
from ..bench.expected import NO_VALUE, ExpectedRow
from ..error_types import JetRulerError
from ..result import Finding, Injected, Severity
from ..ruler.units import number, shown, significant

#: How a sentence calls what is no value.
NOTHING = {NO_VALUE: "no value"}


def injected(bench: Bench) -> Iterator[Injected]:
    """What comes out of each row, channel by channel, then drive by drive."""
    for channel in bench.own_channels:
        for i, row in enumerate(channel.expected, start=1):
            place = f"channel.{channel.name}.expected[{i}]"
            try:
                raw = raw_from(channel, row.raw, place)
                value = float(channel.ruler(raw))
            except JetRulerError as error:
                yield _refused(place, row, error)
                continue
            label = channel.ruler.label(value)
            came = channel.shown(value) if math.isfinite(value) else NO_VALUE
            yield Injected(
                place,
                _raw_text(channel, row),
                _wanted(row, channel.unit),
                label or came,
                _holds(row, value, label),
            )
    for drive in bench.drives.values():
        for i, row in enumerate(drive.expected, start=1):
            place = f"drive.{drive.name}.expected[{i}]"
            try:
                command = _command(bench, drive, row, place)
            except JetRulerError as error:
                yield _refused(place, row, error)
                continue
            channel_or_none = bench.every_channel.get(drive.source)
            raw_text = number(float(row.raw)) if channel_or_none is None else ""
            yield Injected(
                place,
                raw_text or _raw_text(channel_or_none, row),
                _wanted(row, drive.unit),
                shown(command, drive.unit),
                _holds(row, command, None),
            )


def _command(bench: Bench, drive: Drive, row: ExpectedRow, place: str) -> float:
    """The command that a raw value of the drive's channel ends at, without the slew limit."""
    driver = Driver(replace(drive, slew=None))
    channel = bench.every_channel.get(drive.source)
    if channel is None:  # it follows a trip
        values, unsafe = np.array([float(row.raw)]), np.zeros(1, np.bool_)
    else:
        reading = channel.read(np.array([raw_from(channel, row.raw, place)]))
        values = np.asarray(reading.value, np.float64)
        unsafe = (reading.flags & np.uint8(faults_of(drive.safe_flags, channel))) != 0
    return float(driver.add(np.zeros(1), values, unsafe)[0][0])


def _holds(row: ExpectedRow, value: float, label: str | None) -> bool:
    if isinstance(row.value, str):
        return row.value == (label or NO_VALUE) and (label is not None or math.isnan(value))
    room = row.within + 1e-9 * max(abs(row.value), abs(value))
    return math.isfinite(value) and abs(value - row.value) <= room


def _raw_text(channel: Channel | None, row: ExpectedRow) -> str:
    if isinstance(row.raw, str) or channel is None:
        return str(row.raw)
    return shown(float(row.raw), channel.chain.takes)


def _wanted(row: ExpectedRow, unit: str | None) -> str:
    if isinstance(row.value, str):
        return row.value
    return f"{shown(row.value, unit)} within {number(significant(row.within, 3))}"


def _refused(place: str, row: ExpectedRow, error: JetRulerError) -> Injected:
    return Injected(place, str(row.raw), _wanted(row, None), str(error).partition(": ")[2], False)


def unexpected_value(bench: Bench) -> Iterator[Finding]:
    """A row of `expected` whose raw value gives another result.

    Either the laws do not describe the circuit, or the row belongs to another circuit.
    """
    for row in injected(bench):
        if not row.holds:
            name = row.where.split(".")[1]
            at = f" (jetruler explain {name} --at '{row.raw}')" if "channel." in row.where else ""
            yield Finding(
                Severity.ERROR,
                row.where,
                f"{row.raw} gives {NOTHING.get(row.found, row.found)}, expected {row.expected}",
                f"Correct the laws{at}, or the row",
            )
