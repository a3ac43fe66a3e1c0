"""A trip that turned, as a row: one form for logs, streams and reports."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping

from ..core.decide.trips import TripEvent
from ..core.model.channel import Bench
from ..core.model.reading import Reading

#: What stands in a row behind its time.
EVENT_COLUMNS = ("trip", "state", "values")


def event_row(bench: Bench, event: TripEvent, readings: Mapping[str, Reading]) -> tuple[str, ...]:
    """The trip's name, "on" or "off", and what its channels read."""
    values = [
        f"{name}={bench[name].cell(float(readings[name].value[event.sample]))}"
        for name in event.trip.channels
    ]
    return event.trip.name, "on" if event.on else "off", ";".join(values)


def csv_line(*cells: object) -> bytes:
    """A line of CSV."""
    line = io.StringIO()
    csv.writer(line, lineterminator="\n").writerow(cells)
    return line.getvalue().encode()
