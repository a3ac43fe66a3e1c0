"""Trips, drives, and zones that hold: against step-by-step machines written out on their own."""

from __future__ import annotations

import math
from fractions import Fraction
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from jetruler import Bench
from jetruler.benchfile.load import BenchError, parse_bench
from jetruler.core.bench.channel_reader import ChannelReader
from jetruler.core.bench.clock import Clock
from jetruler.core.bench.conditions import Condition, Conditioner
from jetruler.core.bench.decisions import Decisions
from jetruler.core.bench.driver import Driver
from jetruler.core.bench.drives import Drive
from jetruler.core.bench.trips import Trip, Tripper
from jetruler.errors import ParameterError
from jetruler.results import Reading
from tests.helpers.sizes import sizes

VALUES = st.lists(
    st.one_of(st.integers(-6, 6).map(float), st.just(math.nan)), min_size=1, max_size=40
)
STEPS = st.lists(st.sampled_from([0.0, 0.5, 1.0, 3.0]), min_size=40, max_size=40)
CUTS = st.lists(st.integers(1, 7), min_size=40, max_size=40)


def batches(n: int, cuts: list[int]) -> list[slice]:
    """A way to cut n samples into batches."""
    ends = np.minimum(np.cumsum(cuts), n).tolist()
    return [slice(a, b) for a, b in zip([0, *ends], [*ends, n], strict=False) if b > a]


def naive(c: Condition, t: list[float], x: list[float]) -> list[bool]:
    """The condition by its own words, sample by sample."""
    on, out = False, []
    for i, value in enumerate(x):
        if not math.isnan(value):
            if c.above is not None:
                on = value >= c.above or (on and value >= (c.release or 0))
            elif c.below is not None:
                on = value < c.below or (on and value < (c.release or 0))
            else:
                last = [v for u, v in zip(t[: i + 1], x[: i + 1], strict=True)
                        if u >= t[i] - float(c.within or 0) and not math.isnan(v)]  # fmt: skip
                down = c.falls_by or c.changes_by or math.inf
                up = c.rises_by or c.changes_by or math.inf
                on = max(last) - value >= down or value - min(last) >= up
        out.append(on)
    return out


CONDITIONS = [
    Condition("a", above=3, release=1),
    Condition("a", below=-2, release=0),
    Condition("a", rises_by=4, within=2),
    Condition("a", falls_by=4, within=1.5),
    Condition("a", changes_by=3, within=1),
]


@pytest.mark.parametrize("condition", CONDITIONS, ids=str)
@given(x=VALUES, steps=STEPS, cuts=CUTS)
def test_conditions_by_their_own_words(
    condition: Condition, x: list[float], steps: list[float], cuts: list[int]
) -> None:
    t = np.cumsum(steps)[: len(x)]
    values, flags = np.array(x), np.zeros(len(x), np.uint8)
    machine = Conditioner(condition)
    found = [machine.add(t[s], values[s], flags[s]) for s in batches(len(x), cuts)]
    assert np.concatenate(found).tolist() == naive(condition, t.tolist(), x)


@given(
    x=VALUES, steps=STEPS, cuts=CUTS, hold=st.sampled_from([0, 1, 2]), stay=st.sampled_from([0, 2])
)
def test_hold_and_stay(
    x: list[float], steps: list[float], cuts: list[int], hold: int, stay: int
) -> None:
    t = np.cumsum(steps)[: len(x)]
    reading = Reading(np.array(x), np.zeros(len(x), np.uint8))
    tripper = Tripper(Trip("t", (Condition("a", above=2),), "any", hold, stay))
    found = []
    for s in batches(len(x), cuts):
        found += tripper.add(t[s], {"a": Reading(reading.value[s], reading.flags[s])}).tolist()
    on, since, turned, expected = False, None, 0.0, []
    for now, holds in zip(
        t.tolist(), naive(Condition("a", above=2, release=2), t.tolist(), x), strict=True
    ):
        since = (now if since is None else since) if holds else None
        counts = since is not None and now - since >= hold
        if not on and counts:
            on, turned = True, now
        elif on and not counts and now >= turned + stay:
            on = False
        expected.append(on)
    assert found == expected


@given(
    x=VALUES, steps=STEPS, cuts=CUTS,
    marks=st.sampled_from(
        [((0, 0), (5, 255)), ((-5, 255), (5, 0)), ((-5, -100), (0, 40), (5, 90))]),
    slew=st.sampled_from([None, 30.0]), dead=st.sampled_from([0.0, 20.0]),
    unsafe=st.lists(st.booleans(), min_size=40, max_size=40),
)  # fmt: skip
def test_a_drive_never_leaves_its_clamp(
    x: list[float], steps: list[float], cuts: list[int], marks: Any, slew: float | None,
    dead: float, unsafe: list[bool],
) -> None:  # fmt: skip
    kind = (-100.0, 255.0)
    drive = Drive("d", "a", marks, safe=10, range=kind, clamp=(0, 200), slew=slew, dead_band=dead)
    t, values, bad = np.cumsum(steps)[: len(x)], np.array(x), np.array(unsafe[: len(x)])
    whole, safe = Driver(drive).add(t, values, bad)
    machine = Driver(drive)
    parts = [machine.add(t[s], values[s], bad[s])[0] for s in batches(len(x), cuts)]
    assert np.array_equal(np.concatenate(parts), whole)  # any batch size
    assert np.all((whole >= 0) & (whole <= 200))
    assert np.all(whole == np.rint(whole))
    assert np.all(whole[safe] == 10)
    assert np.array_equal(safe, bad | np.isnan(values))
    if slew is not None:  # rounding may add one to a step
        steps_made = np.abs(np.diff(whole, prepend=10))
        free = safe | (steps_made <= slew * np.diff(t, prepend=t[0]) + 1)
        assert np.all(free)


def test_what_a_drive_does() -> None:
    flap = Drive("flap", "knob", ((0, 1000), (100, 2000)), safe=1500, range="pulse", dead_band=30)
    t = np.arange(4.0)
    assert [part.size for part in Driver(flap).add(t[:0], t[:0], t[:0] > 0)] == [0, 0]
    commands, _ = Driver(flap).add(t, np.array([2.0, 4.0, 50.0, 250.0]), np.zeros(4, np.bool_))
    assert commands.tolist() == [1000, 1040, 1500, 2000]  # off is really off; ends hold
    motor = Drive("m", "knob", ((0, 60), (100, 255)), safe=0, off=0)
    assert motor.bounds == (0, 255)
    slow = Driver(Drive("s", "knob", ((0, 0), (100, 100)), safe=0, slew=10))
    assert slow.add(t, np.full(4, 100.0), np.zeros(4, np.bool_))[0].tolist() == [0, 10, 20, 30]
    out, _ = slow.add(t + 4, np.full(4, 100.0), np.array([False, True, False, False]))
    assert out.tolist() == [40, 0, 10, 20]  # to safe at once, back slowly


@given(st.lists(st.floats(-50, 150), min_size=1, max_size=60), CUTS)
def test_zones_hold(noise: list[float], cuts: list[int]) -> None:
    text = """
    [converter]
    bits = 12
    [channel.light]
    column = 1
    laws = [{ law = "zones", edges = [1000, 1010], values = ["a", "b", "c"], hysteresis = 20 }]
    """
    channel = parse_bench(text)["light"]
    counts = np.array([1000 + round(n) for n in noise])
    whole = ChannelReader(channel).add(counts)[1].value
    reader = ChannelReader(channel)
    parts = [reader.add(counts[s])[1].value for s in batches(counts.size, [*cuts, 60])]
    assert np.array_equal(np.concatenate(parts), whole)
    zone, expected = int(counts[0] >= 1000) + int(counts[0] >= 1010), []
    over = [counts[0] >= 1000, counts[0] >= 1010]
    for count in counts.tolist():
        for i, edge in enumerate((1000, 1010)):
            over[i] = count >= edge + 20 or (over[i] and count >= edge - 20)
        zone = sum(map(int, over))
        expected.append(zone)
    assert whole.tolist() == expected


def test_the_clock_never_goes_back() -> None:
    clock = Clock()
    assert clock.add([5, 6, math.nan, 7])[0].tolist() == [5, 6, 6, 7]
    times, restarts = clock.add([1, 2])  # a board that started again
    assert (times.tolist(), restarts.tolist(), clock.jumps) == ([7, 8], [True, False], 1)
    times, restarts = clock.add([1e308, 3, 4, 1e18, 5, 5000])  # cells that were misread; a leap
    assert times.tolist() == [8, 8, 9, 9, 9, 9]
    assert restarts.tolist() == [True, True, False, True, True, True]
    assert clock.add([5001])[0].tolist() == [10]
    assert clock.jumps == 6
    hourly = Clock()  # where samples come every hour, an hour is no jump
    assert hourly.add(np.arange(5) * 3600.0)[0].tolist() == [0, 3600, 7200, 10800, 14400]
    assert hourly.jumps == 0
    assert Clock().add([math.nan, math.nan])[0].tolist() == [0, 0]


DECIDED = """
[converter]
bits = 12
[channel.bean]
column = "b"
[channel.knob]
column = "k"
laws = [{ law = "line", gain = 1, offset = 0, unit = "%" }]
[trip.hot]
any = [{ channel = "bean", above = 3 }]
[trip.lost]
all = [{ channel = "knob", flagged = ["missing"] }, { channel = "bean", below = 1 }]
[drive.horn]
from = "hot"
safe = 0
[drive.flap]
from = "knob"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
safe = 1200
safe_when = ["hot"]
"""


WITH_VREF = DECIDED.replace('column = "b"', 'column = "b"\nconverter = { vref = 5 }')


def decided_bench() -> Bench:
    return parse_bench(WITH_VREF)


def readings(
    bean: list[float], knob: list[float], flags: list[int] | None = None
) -> dict[str, Reading]:
    none = np.zeros(len(bean), np.uint8)
    return {
        "bean": Reading(np.array(bean), none),
        "knob": Reading(np.array(knob), np.array(flags or none, np.uint8)),
    }


def test_trips_and_drives_together() -> None:
    decisions = Decisions(decided_bench())
    found = decisions.add(
        [0.0, 1.0, 2.0, 3.0],
        readings([0, 4, 4, 0], [10, 20, 30, math.nan], [0, 0, 2, 16]),
    )
    assert found.drives["horn"].tolist() == [0, 255, 255, 0]
    assert found.drives["flap"].tolist() == [1100, 1200, 1200, 1200]
    assert found.safe["flap"].tolist() == [False, True, True, True]
    told = [(e.sample, e.trip.name, e.on) for e in found.events]
    assert told == [(1, "hot", True), (3, "hot", False), (3, "lost", True)]
    silent = decisions.silent(5.0)
    assert silent.times.tolist() == [8.0]
    assert silent.safe["horn"].tolist() == silent.safe["flap"].tolist() == [True]


def test_a_bench_that_was_changed_goes_on() -> None:
    decisions = Decisions(decided_bench())
    decisions.add([0.0], readings([4], [50]))
    changed = parse_bench(WITH_VREF.replace("safe = 1200", "safe = 1300\nslew = 10"))
    after = decisions.taken_over(changed)
    assert after.trippers["hot"].on
    found = after.add([1.0], readings([4], [50]))
    assert found.drives["flap"].tolist() == [1300]


@pytest.mark.parametrize(("change", "next_commands"), [
    (("[drive.horn]", "[drive.horn]\nabout = 'loud'"), [1240, 1250]),  # what it left goes on
    (("slew = 10", "slew = 30"), [1230, 1260]),  # what it changed starts from where it is
])  # fmt: skip
def test_drives_of_a_bench_that_was_changed_go_on(
    change: tuple[str, str], next_commands: list[float]
) -> None:
    """10 µs a second from 1200 on, to 1500."""
    slow = WITH_VREF.replace("safe = 1200", "safe = 1200\nslew = 10")
    decisions = Decisions(parse_bench(slow))
    before = decisions.add([0.0, 1.0, 2.0, 3.0], readings([0] * 4, [50] * 4))
    assert before.drives["flap"].tolist() == [1200, 1210, 1220, 1230]
    after = decisions.taken_over(parse_bench(slow.replace(*change)))
    found = after.add([4.0, 5.0], readings([0, 0], [50, 50]))
    assert found.drives["flap"].tolist() == next_commands
    assert list(after.drivers) == ["horn", "flap"]


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('[trip.a]\nany = [{ channel = "beam", above = 1 }]',
         "any[1].channel: expected a channel of the bench, found 'beam': did you mean"),
        ('[trip.a]\nany = [{ channel = "bean", above = 1, below = 2 }]',
         "trip.a.any[1].condition: expected exactly one of above, below"),
        ('[trip.a]\nany = [{ channel = "bean", above = 1, release = 2 }]',
         "release: expected at most 1, found 2"),
        ('[trip.a]\nany = [{ channel = "bean", falls_by = 1 }]',
         'within: expected a time above 0, as in "5 s", found None'),
        ('[trip.a]\nany = [{ channel = "bean", flagged = ["loose"] }]', "the name of a flag"),
        ("[trip.a]\nhold = 1", "a list of conditions under any, or under all"),
        ('[trip.bean]\nany = [{ channel = "bean", above = 1 }]', "channel bean has this name"),
        ('[trip.a]\nany = []', "expected at least one condition"),
        ('[trip.a]\nany = [{ channel = "bean", above = 1 }]\nhold = "5 m"',
         'trip.a.hold: expected a time, as in 2 or "200 ms", found \'5 m\''),
        ('[drive.a]\nfrom = "bin"\nsafe = 0\nmarks = [[0, 0], [1, 9]]',
         "drive.a.from: expected a channel or trip of the bench, found 'bin'"),
        ('[drive.a]\nfrom = "bean"\nmarks = [[0, 0], [1, 9]]',
         "drive.a.safe: missing; a drive needs it"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [1, 300]]',
         "expected commands within 0 … 255"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0.5\nmarks = [[0, 0], [1, 9]]', "a whole number"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [0, 9]]', "drive.a.marks"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [1, 9]]\nsafe_when = ["x"]',
         "drive.a.safe_when[1]: expected a trip of the bench, found 'x': there is none"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [1, 9]]\nclamp = [5, 9]',
         "drive.a.safe: expected commands within 5 … 9, found 0"),
        ('[drive.a]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [1, 9]]\noutput = "x"\n'
         '[drive.b]\nfrom = "bean"\nsafe = 0\nmarks = [[0, 0], [1, 9]]\noutput = "x"',
         "drive.b.output: expected another name than that of drive.a, found 'x'"),
        ('[stream]\nformat = "xml"\nbaud = 0', "2 errors"),
        ('[stream]\ncolumns = ["a", "a"]', "stream.columns"),
    ],
)  # fmt: skip
def test_mistakes_in_trips_and_drives(text: str, says: str) -> None:
    channel = '[converter]\nbits = 12\nvref = 5\n[channel.bean]\ncolumn = "b"\n'
    with pytest.raises(BenchError) as caught:
        parse_bench(channel + text)
    assert says in str(caught.value)


def test_a_condition_says_what_it_is() -> None:
    trip = Trip(
        "t", (Condition("bean", above=225, release=220), Condition("bean", flagged=True)), "all", 2
    )
    assert str(trip) == "bean above 225, release 220 and bean flagged, held 2 s"
    with pytest.raises(ParameterError):
        Condition("bean", above=math.inf)


ODD = st.sampled_from([1e308, -1e18, 1e6, math.nan, math.inf])
TIMES = st.lists(st.one_of(st.floats(0, 100), ODD), min_size=1, max_size=30)


@given(TIMES, st.lists(st.integers(1, 29), max_size=4))
@example([*[0.0] * 7, 34.0, 0.0, 30.340150939405923, 30.930692356298962], [9])
@example([0.0, 1e6, 0.0, 61.0, 1e6], [2])  # a long step stays the longest, also after a jump
def test_a_clock_is_the_same_in_any_batches(times: list[float], cuts: list[int]) -> None:
    """It never goes back and never leaps, whatever comes."""
    whole = Clock()
    clock, restarts = whole.add(times)
    parts, bounds = Clock(), sorted({0, len(times), *(c for c in cuts if c < len(times))})
    found = [parts.add(times[a:b]) for a, b in pairwise(bounds)]
    known = np.cumsum(np.isfinite(times)) > 0  # before the first time nothing is known
    assert np.array_equal(np.concatenate([f[0] for f in found])[known], clock[known])
    assert np.array_equal(np.concatenate([f[1] for f in found]), restarts)
    assert np.all(np.diff(clock[known]) >= 0)
    assert parts.jumps == whole.jumps


def test_a_jump_restarts_what_counts_time() -> None:
    """A hold must be held again, a change is forgotten, a drive does not leap."""
    bench = parse_bench(
        '[converter]\nbits = 12\n[channel.a]\ncolumn = 1\nlaws = [{ law = "line", gain = 1, '
        'takes = "count", unit = "%" }]\n[trip.held]\nany = [{ channel = "a", above = 50 }]\n'
        'hold = "3 s"\n[trip.moved]\nany = [{ channel = "a", rises_by = 20, within = "5 s" }]\n'
        '[drive.d]\nfrom = "a"\nmarks = [[0, 0], [100, 100]]\nsafe = 0\nslew = 10\n'
    )
    values = np.array([40.0, 60, 60, 60, 90, 90, 90, 90])
    times = np.array([0.0, 1, 2, 3, 5000, 5001, 5002, 5003])
    found = Decisions(bench).add(times, {"a": bench["a"].read(values)})
    assert found.trips["held"].tolist() == [False] * 7 + [True]
    assert found.trips["moved"].tolist() == [False, True, True, True, False, False, False, False]
    assert found.drives["d"].tolist() == [0, 10, 20, 30, 30, 40, 50, 60]


@pytest.mark.parametrize("many", sizes(10_000, 1_000_000))
def test_no_command_is_ever_outside_its_clamp(many: int) -> None:
    """Random values and flags, clocks that run, stand, jump and go back, drives of every kind."""
    bench = parse_bench(
        '[converter]\nbits = 12\n[channel.a]\ncolumn = 1\nlaws = [{ law = "line", gain = 0.05, '
        'takes = "count", unit = "%" }]\n'
        '[trip.t]\nany = [{ channel = "a", above = 50, release = 40 }]\nhold = "1 s"\n'
        '[drive.fast]\nfrom = "a"\nmarks = [[0, 30], [200, 250]]\nclamp = [30, 200]\nsafe = 99\n'
        '[drive.slow]\nfrom = "a"\nrange = "pulse"\nmarks = [[20, 2000], [90, 1000]]\nsafe = 1500\n'
        'slew = 37.5\ndead_band = 40\noff = 1200\nsafe_when = ["t"]\n'
        '[drive.lamp]\nfrom = "t"\nmarks = [[0, -5], [1, 80]]\nrange = [-100, 100]\nsafe = 0\n'
        "slew = 1e6\nwhole = false\n"
    )
    random, decisions = np.random.RandomState(3), Decisions(bench)
    done = 0
    while done < many:
        size = int(random.choice([1, 7, 300, 5000]))
        times = np.cumsum(random.choice([0, 0.01, 1, 1e4, -5], size, p=[0.1, 0.5, 0.3, 0.05, 0.05]))
        odd = random.choice([1e308, -1e308, 1e18, np.nan, np.inf], size)
        times = np.where(random.rand(size) < 0.05, odd, times)
        counts = np.where(random.rand(size) < 0.05, np.nan, random.uniform(-500, 5000, size))
        found = decisions.add(times, {"a": bench["a"].read(counts)})
        for name, drive in bench.drives.items():
            low, high = drive.bounds
            commands = found.drives[name]
            assert np.all((commands >= low) & (commands <= high)), name
        done += size


@given(
    st.floats(-1, 1), st.floats(0.02, 2), st.none() | st.integers(0, 4), st.none() | st.just(3.0),
    st.integers(0, 2**32 - 1),
)  # fmt: skip
def test_no_command_leaves_its_clamp_by_rounding(
    low: float, span: float, decimals: int | None, slew: float | None, seed: int
) -> None:
    """As it stands on the wire, whatever its decimals and slew are."""
    clamp = (low, low + span)
    options: dict[str, Any] = {"clamp": clamp, "whole": False, "decimals": decimals, "slew": slew}

    def drive_of(**options: Any) -> Drive:
        marks = ((0.0, clamp[0]), (100.0, clamp[1]))
        return Drive("m", "knob", marks, safe=clamp[0], range=(-5.0, 5.0), **options)

    places = 10 ** (decimals or 0)
    if decimals is not None and math.floor(Fraction(repr(clamp[1])) * places) < math.ceil(
        Fraction(repr(clamp[0])) * places
    ):  # not one number with so many decimals lies within
        with pytest.raises(ParameterError, match="decimals: expected enough"):
            drive_of(**options)
        return
    drive = drive_of(**options)
    values = np.random.default_rng(seed).uniform(-20, 120, 200)
    commands, _ = Driver(drive).add(np.arange(200) / 20, values, np.zeros(200, np.bool_))
    for command in commands.tolist():
        sent = float(drive.text(command))
        assert clamp[0] <= sent <= clamp[1]
        assert abs(sent - command) <= (1e-9 if decimals is None else 1.001 * 10.0**-decimals)


def clock_of(times: list[float], arrivals: list[float] | None, cuts: list[int]) -> list[float]:
    """The clock at each sample, in batches that are cut at some places."""
    clock, found = Clock(), []
    for first, end in pairwise(sorted({0, len(times), *(c % (len(times) + 1) for c in cuts)})):
        part = None if arrivals is None else np.array(arrivals[first:end])
        found += clock.add(times[first:end], part)[0].tolist()
    return found


@given(
    st.lists(st.sampled_from(["runs", "stands", "nan", "back", "leaps"]), min_size=1, max_size=40),
    st.lists(st.integers(0, 2000), max_size=5),
    st.booleans(),
)
def test_a_clock_goes_on_whatever_its_source_does(
    parts: list[str], cuts: list[int], arrive: bool
) -> None:
    """Never back, never ahead of arrival by more than the source says, the same in any batches."""
    times, now = [0.05 * i for i in range(300)], 15.0
    for part in parts:
        now = now - 7 if part == "back" else now + 9e9 if part == "leaps" else now
        for _ in range(30):
            now += 0.05 * (part in ("runs", "back", "leaps"))
            times.append(math.nan if part == "nan" else now)
    arrivals = [0.05 * i for i in range(len(times))] if arrive else None
    clock = clock_of(times, arrivals, [])
    assert clock == clock_of(times, arrivals, cuts)
    steps = np.diff(clock)
    assert steps.min() >= 0
    assert steps.max() <= 1.7  # what stands still for thirty samples is told after a second
    assert clock[-1] == pytest.approx(0.05 * len(times), abs=2.0 * len(parts))


def test_a_clock_that_stands_still_is_replaced_by_arrival() -> None:
    clock = Clock()
    arrivals = np.arange(400) / 20
    times = np.minimum(arrivals, 5.0)
    found, restarts = clock.add(times, arrivals)
    assert not restarts.any()
    assert clock.why == "stops"
    assert np.array_equal(found[:101], times[:101])
    assert np.flatnonzero(clock.faults)[0] == pytest.approx(121, abs=1)
    assert found[-1] == pytest.approx(arrivals[-1] - 1.0, abs=0.1)
    # It goes on where it stood: so does the clock, without a leap.
    later, _ = clock.add([5.05, 5.10], np.array([20.0, 20.05]))
    assert clock.why == ""
    assert np.diff([found[-1], *later]).max() <= 0.11
    # Times to whole seconds come several times each, and stand still for nobody.
    coarse = Clock()
    coarse.add(np.floor(arrivals), arrivals)
    assert not coarse.faults.any()


@given(
    steps=st.lists(st.sampled_from([0.0, 0.0, 0.0, 0.1, 0.1, 5.0, -3.0]), min_size=2, max_size=40),
    waits=st.lists(st.sampled_from([0.05, 0.1, 0.3, 2.0]), min_size=40, max_size=40),
    cuts=CUTS,
)
def test_a_clock_that_stands_does_so_in_any_batches(
    steps: list[float], waits: list[float], cuts: list[int]
) -> None:
    """Beside the times at which its samples came."""
    times, arrivals = np.cumsum(steps), np.cumsum(waits[: len(steps)])
    whole, parts = Clock(), Clock()
    clock, restarts = whole.add(times, arrivals)
    found, faults = [], []
    for part in batches(len(steps), cuts):
        found.append(parts.add(times[part], arrivals[part]))
        faults.append(parts.faults)
    assert np.array_equal(np.concatenate(faults), whole.faults)
    assert np.array_equal(np.concatenate([f[0] for f in found]), clock)
    assert np.array_equal(np.concatenate([f[1] for f in found]), restarts)
