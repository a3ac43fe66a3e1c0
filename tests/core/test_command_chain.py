"""A drive explained as a chain gives the commands that the drive itself gives."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

import jetruler as jr
from jetruler.core.bench.command_chain import beside_commands, command_channel
from jetruler.core.bench.driver import Driver
from tests.conftest import Cli
from tests.helpers.sizes import soak

KNOB = """
[channel.knob]
column = "k"
converter = { bits = 12, vref = 3.3 }
laws = [
  { law = "line", marks = [[198, 0], [3904, 100]], unit = "%" },
  { law = "clamp", low = 0, high = 100 },
]
[trip.high]
any = [{ channel = "knob", above = 50 }]
[drive.d]
"""
DRIVES = {
    "a pulse": 'from = "knob"\nrange = "pulse"\nmarks = [[0, 1000], [100, 2000]]\nsafe = 1500',
    "falling": 'from = "knob"\nmarks = [[20, 255], [80, 0]]\nsafe = 255',
    "three marks": 'from = "knob"\nmarks = [[0, 0], [30, 200], [100, 255]]\nsafe = 0',
    "a dead band": 'from = "knob"\nmarks = [[0, 0], [100, 255]]\ndead_band = 25\nsafe = 0',
    "off in the middle": 'from = "knob"\nrange = "pulse"\nmarks = [[0, 1000], [100, 2000]]\n'
    "off = 1500\ndead_band = 40\nsafe = 1500",
    "a narrow clamp": 'from = "knob"\nmarks = [[0, 0], [100, 255]]\nclamp = [20, 200]\n'
    "safe = 20\noff = 20",
    "a wide clamp": 'from = "knob"\nmarks = [[40, 50], [60, 200]]\nclamp = [0, 255]\n'
    "safe = 0\noff = 0",
    "volts": 'from = "knob"\nrange = [0, 10]\nunit = "V"\nwhole = false\n'
    "marks = [[0, 0.5], [100, 9.5]]\nsafe = 0",
    "a trip": 'from = "high"\nmarks = [[0, 0], [1, 200]]\nsafe = 0',
}  # fmt: skip


@pytest.mark.parametrize("text", DRIVES.values(), ids=DRIVES)
def test_the_chain_gives_the_commands_of_the_drive(text: str) -> None:
    bench = jr.parse_bench(KNOB + text)
    drive = bench.drives["d"]
    channel = command_channel(bench, drive)
    if drive.source in bench.channels:
        counts = np.arange(4096.0)
        values = np.asarray(bench["knob"](counts), np.float64)
    else:
        counts = values = np.array([0.0, 1.0])
    still = Driver(replace(drive, slew=None))
    commands, _ = still.add(np.zeros(values.size), values, np.zeros(values.size, np.bool_))
    np.testing.assert_allclose(np.asarray(channel(counts)), commands, rtol=0, atol=1e-9)
    assert any(line.startswith("safe: ") for line in beside_commands(bench, drive))


def test_a_rail_that_is_an_end_makes_nothing_safe() -> None:
    for rails, named in (("ends", False), ("faults", True)):
        text = KNOB.replace("[trip.high]", f'rails = "{rails}"\n[trip.high]') + DRIVES["falling"]
        bench = jr.parse_bench(text)
        lines = " ".join(beside_commands(bench, bench.drives["d"]))
        assert ("low_rail" in lines) is named
        assert "missing" in lines


@soak
def test_explained_drawn_and_reported(cli: Cli, home: Path) -> None:
    done = cli("explain", "flap", "--at", "2051")
    assert done.returncode == 0, done.stderr
    assert "= 1500 µs" in done.stdout
    assert "slew: no faster than 400 µs a second" in done.stdout
    for what in ("ruler", "stages", "curve"):
        assert cli("draw", what, "blower", "-o", f"{what}.png").returncode == 0
    assert cli("report", "damper", "-o", "r.md").returncode == 0
    report = (home / "r.md").read_text()
    assert "Drive flap" in report
    assert "Drive blower" not in report
    assert "no faster than 400" in report
    wrong = cli("explain", "flop", "--at", "1")
    assert (wrong.returncode, wrong.stderr.count("\n")) == (2, 1)
    assert "expected a channel or drive, found 'flop'" in wrong.stderr


def test_zones_are_no_numbers() -> None:
    lamps = (
        "[channel.a]\ncolumn = 1\nconverter = { bits = 8 }\n"
        'laws = [{ law = "zones", edges = [100], values = ["low", "high"] }]\n'
        '[drive.d]\nfrom = "a"\nmarks = [[0, 0], [1, 255]]\nsafe = 0\n'
    )
    bench = jr.parse_bench(lamps)
    with pytest.raises(jr.JetRulerError, match="zones"):
        command_channel(bench, bench.drives["d"])
