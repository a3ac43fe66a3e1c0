"""Exported C, Python and structured text against the live view: smoothing, zones, trips, drives."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jetruler.core.bench.channel_reader import ChannelReader, zones_that_hold
from jetruler.core.bench.decisions import Decisions
from jetruler.core.bench.smoothing import Smoother
from jetruler.core.firmware.names import safe_name
from jetruler.core.ruler.reading import Reading
from tests.agreement.chips import (
    Chip,
    Results,
    chip,
    in_c,
    in_python,
    in_structured_text,
    inputs,
    of_c,
)
from tests.helpers.compiled import needs_compiler, printed_by
from tests.helpers.sizes import sizes, soak

pytestmark = needs_compiler


@pytest.mark.parametrize("many", sizes(2, 50))
def test_a_chip_does_what_the_live_view_does(tmp_path: Path, many: int) -> None:
    held({f"chip_{seed}": chip(seed) for seed in range(many)}, tmp_path)


@soak
@pytest.mark.parametrize("many", sizes(1, 6))
def test_so_does_one_with_a_wide_converter(tmp_path: Path, many: int) -> None:
    widths = (18,) if many == 1 else (20, 24)
    held({f"chip_{seed}": chip(seed, widths) for seed in range(many)}, tmp_path)


@pytest.mark.parametrize("seed", range(50, 62))
def test_so_does_its_python(tmp_path: Path, seed: int) -> None:
    c = chip(seed)
    as_live(c, inputs(c) | in_python(c, tmp_path))


def held(chips: dict[str, Chip], tmp_path: Path) -> None:
    """Every machine in three languages against the live view."""
    printed = printed_by({name: in_c(c) for name, c in chips.items()}, tmp_path)
    for name, c in chips.items():
        for target, found in (
            ("c", of_c(c, printed[name])),
            ("python", in_python(c, tmp_path)),
            ("st", in_structured_text(c, tmp_path)),
        ):
            try:
                as_live(c, inputs(c) | found)
            except AssertionError as error:
                raise AssertionError(f"{name}, {target}: {error}") from None


def as_live(c: Chip, found: Results) -> None:
    """Hold the results of every sample against the live view's."""
    times = np.array(c.times, dtype=np.float64)
    times = (times + 2.0**32 * (times < times[0])) / 1000
    readings: dict[str, Reading] = {}
    judged: dict[str, Reading] = {}
    for e in c.made:
        channel = e.channel
        raw, counts = c.counts[channel.name], found[f"{e.name}_count"]
        _smoothed(channel, raw, counts)
        # What is read is the smoothed count: everything behind it is exact.
        reading = ChannelReader(replace(channel, smooth=None)).add(counts)[1]
        readings[channel.name] = reading
        values = found[f"{e.name}_value"]
        none = values == -(2**31)
        plain = channel.ruler(counts)
        assert np.array_equal(none, np.isnan(plain)), channel.name
        off = np.abs(values[~none] / e.wanted.scale - plain[~none])
        assert not off.size or off.max() <= e.proof.worst + 1e-9, channel.name
        if zones_that_hold(channel) is not None:
            labels = [channel.ruler.label(0.0) is not None] * counts.size
            zone = reading.value if labels[0] else np.searchsorted([0, 40, 50, 90], reading.value)
            assert np.array_equal(found[f"{e.name}_zone"], np.where(none, -1, zone)), channel.name
        steps = np.where(none, np.nan, values / e.wanted.scale)
        judged[channel.name] = reading if e.name == "b" else replace(reading, value=steps)
    live = Decisions(c.bench).add(times, readings)
    # Changes are judged in the steps of the exported value, which is said.
    in_steps = Decisions(c.bench).add(times, judged)
    for name, trip in c.bench.trips.items():
        moves = any(condition.kind.endswith("_by") for condition in trip.conditions)
        if not moves:
            assert np.array_equal(found[f"{name}_on"], live.trips[name]), trip
        elif all(condition.kind.endswith(("_by", "flagged")) for condition in trip.conditions):
            assert np.array_equal(found[f"{name}_on"], in_steps.trips[name]), trip
    trips = {name: found[f"{name}_on"] != 0 for name in c.bench.trips}
    for name, drive in c.bench.drives.items():
        command = _commands(c, name, times, readings, trips)
        off = np.abs(found[name] - command)
        [machine] = [m for m in c.machines if m.name == name]
        said = [re.search(r"off by up to ([\d.]+)", line) for line in machine.about]
        by = max((float(one[1]) for one in said if one), default=0.0)  # a large table is saved
        assert off.max() <= bool(drive.slew) + by, drive


def _smoothed(channel: Any, raw: Any, counts: Any) -> None:
    """The count that is read is the nearest to the smoothed one."""
    if channel.smooth is None:
        assert np.array_equal(counts, raw)
        return
    without = np.isnan(channel.ruler(raw))
    smooth = Smoother(channel.smooth).add(raw, without)
    exact = channel.smooth.kind != "exponential"
    nearest = np.where(without, raw, np.floor(np.nan_to_num(smooth) + 0.5 + 1e-9))
    assert np.abs(counts - nearest).max() <= (0 if exact else 1), channel.smooth
    assert np.abs(counts - smooth)[~without].max(initial=0) <= 0.5 + (1e-9 if exact else 0.51)


def _commands(c: Chip, name: str, times: Any, readings: Any, trips: dict[str, Any]) -> Any:
    """The live commands on these trips."""
    decisions = Decisions(c.bench)
    driver = decisions.drivers[name]
    values, unsafe = decisions._source(driver.drive, readings, trips)
    return driver.add(times, values, unsafe)[0]


def test_names_are_those_of_the_bench() -> None:
    c = chip(0)
    assert {safe_name(n) for n in c.bench.channels} == {e.name for e in c.made}
