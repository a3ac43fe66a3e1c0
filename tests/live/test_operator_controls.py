"""Hands on a running bench: keys and calls alike, on the stand-in board and on random streams."""

from __future__ import annotations

import contextlib
import re
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, cast

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.text import Text

import jetruler as jr
from jetruler.cli.view.traces import ACROSS, DOWN, trace_rows
from jetruler.core.bench.bench import LogFormat
from jetruler.core.bench.drives import Drive
from jetruler.core.error_types import ParameterError
from jetruler.core.ruler.reading import Reading
from jetruler.live.controls import OperatorControls, snapshot
from jetruler.live.session import Parts, Session
from jetruler.live.sources import StreamError
from jetruler.live.stream_processor import PIECE, History, Window
from jetruler.live.writers import Recorder
from tests.helpers.sizes import soak

ROOT = Path(__file__).parents[2]

TABLE = """
title = "Table"
[channel.knob]
column = "k"
converter = { bits = 10 }
laws = [
  { law = "line", marks = [[0, 0], [1000, 100]], unit = "%" },
  { law = "clamp", low = 0, high = 100 },
]
decimals = 1
[channel.warm]
column = "w"
converter = { bits = 10 }
laws = [{ law = "line", gain = 0.1, unit = "degC" }]
[trip.hot]
any = [{ channel = "warm", above = 90, release = 80 }]
[drive.motor]
from = "knob"
marks = [[0, -200], [100, 200]]
range = [-255, 255]
safe = 0
off = 0
slew = 400
safe_when = ["hot"]
clamp = [-150, 150]
"""


class Wire:
    """Keeps what it is sent."""

    lossless, joined_late, name = False, False, "wire"

    def __init__(self) -> None:
        self.got: list[str] = []

    def open(self) -> None: ...

    def read(self) -> bytes:
        time.sleep(0.01)
        return b""

    def write(self, data: bytes) -> None:
        self.got += data.decode().splitlines()

    def close(self) -> None: ...

    @property
    def commands(self) -> list[float]:
        return [float(line.partition("=")[2]) for line in self.got]


def table(armed: bool = True, recorder: Recorder | None = None) -> tuple[Session, Wire]:
    bench, wire = jr.parse_bench(TABLE), Wire()
    stream = LogFormat(columns=("k", "w"))
    parts = Parts(None, bench, stream, wire, {}, wire, armed, recorder, handled=True)
    return Session(parts), wire


def feed(session: Session, lines: list[str], at: float = 0.0, every: float = 0.001) -> None:
    """Lines that come, each so long after the one before."""
    for i, line in enumerate(lines):
        arrival = np.array([at + i * every])
        session._decided(session.processor.take(f"{line}\n".encode(), arrival, 0.0))


def test_a_held_channel_says_so_and_lets_go() -> None:
    session, _ = table()
    controls = OperatorControls(session)
    feed(session, ["100,5"])
    assert controls.hold("knob", "50 %") == 500
    feed(session, ["100,5"], 0.1)
    assert session.processor.seen["knob"].value == 50
    assert jr.Flag(session.processor.seen["knob"].flags).name == "HELD"
    assert controls.nudge("knob", 20) == 520
    assert controls.hold("warm", "21.5 degC") == 215
    assert controls.hold("knob") == 500  # what was read last
    controls.release("knob")
    feed(session, ["100,5"], 0.2)
    assert session.processor.seen["knob"].value == 10
    assert session.processor.seen["knob"].highest == 100  # what was held shows no end


@pytest.mark.parametrize(
    ("action", "says"),
    [
        (
            lambda d: d.hold("nob", 5),
            "expected a channel, found 'nob': did you mean 'knob'?",
        ),
        (lambda d: d.hold("knob", "warm"), "found 'warm'"),
        (lambda d: d.hold("knob", "10 L"), "a percentage of its range or a value in %"),
        (lambda d: d.hold("knob"), "expected a value to hold, found none yet"),
        (lambda d: d.set("motor", 200), "expected a command within −150 … 150"),
        (lambda d: d.set("knob", 2), "expected a drive, found 'knob'"),
        (
            lambda d: d.feed("motor", "cold"),
            "expected a channel or trip, found 'cold'",
        ),
        (lambda d: d.gate("moto", on=False), "expected a drive, found 'moto'"),
        (lambda d: d.write_ends("knob"), "expected a bench file to write the marks into"),
    ],
)
def test_what_cannot_be_says_what_can(action: object, says: str) -> None:
    session, _ = table()
    with pytest.raises(jr.JetRulerError, match=re.escape(says)):
        action(OperatorControls(session))  # type: ignore[operator]


def test_a_drive_by_hand_keeps_clamp_slew_and_trips() -> None:
    session, wire = table()
    controls = OperatorControls(session)
    session.sender.safe()
    feed(session, ["500,5"] * 2)
    controls.set("motor", 150)
    feed(session, ["500,5"] * 101, 0.01, every=0.01)  # 400 a second: 150 after 0.375 s
    assert wire.commands[-1] == 150
    assert max(np.diff(wire.commands)) <= 4.001
    feed(session, ["500,950"], 1.2)  # hot
    assert wire.commands[-1] == 0
    feed(session, ["500,5"] * 100, 1.3, every=0.01)
    controls.release("motor")
    feed(session, ["500,5"] * 100, 2.4, every=0.01)
    assert wire.commands[-1] == 0  # half way is off again


def test_a_gate_and_all_gates_and_arming() -> None:
    session, wire = table(armed=False)
    controls = OperatorControls(session)
    feed(session, ["900,5"] * 500, every=0.01)
    assert wire.got == []
    controls.arm()
    assert wire.commands == [0]
    feed(session, ["900,5"] * 100, 5.0, every=0.01)
    assert wire.commands[-1] == 150
    assert max(np.diff(wire.commands)) <= 4.001  # from safe, not from where it stood unseen
    controls.all_off()
    assert wire.commands[-1] == 0  # at once, without a sample
    feed(session, ["100,5"] * 100, 8.0, every=0.01)
    assert wire.commands[-1] == 0
    assert session.processor.why_safe("motor") == "its gate is off"
    controls.gate("motor", on=True)
    feed(session, ["100,5"] * 100, 9.5, every=0.01)
    assert wire.commands[-1] == -150
    controls.disarm()
    feed(session, ["900,5"] * 10, 11.0)
    assert wire.commands[-1] == 0


@soak
def test_a_drive_is_fed_from_another_channel_and_back() -> None:
    session, wire = table()
    controls = OperatorControls(session)
    controls.feed("motor", "warm")
    feed(session, ["0,625"] * 200, every=0.01)  # 62.5 °C of 0 to 100
    assert wire.commands[-1] == 50
    assert session.overrides.words == {"motor": "fed"}
    controls.release("motor")
    feed(session, ["0,625"] * 200, 3.0, every=0.01)
    assert wire.commands[-1] == -150


ACTIONS: list[Callable[[OperatorControls], object]] = [
    lambda d: d.all_off(),
    lambda d: d.gate("motor", on=False),
    lambda d: d.gate("motor", on=True),
    lambda d: d.hold("knob"),
    lambda d: d.hold("knob", "50 %"),
    lambda d: d.nudge("knob", 20),
    lambda d: d.nudge("warm", -1),
    lambda d: d.hold("warm", 950),
    lambda d: d.set("motor", 100),
    lambda d: d.set("motor", -900),
    lambda d: d.nudge_drive("motor", 20),
    lambda d: d.nudge_drive("motor", -1),
    lambda d: d.feed("motor", "warm"),
    lambda d: d.feed("motor", "knob"),
    lambda d: d.release("motor"),
    lambda d: d.release("knob"),
    lambda d: d.release("warm"),
    lambda d: d.reset_ends(),
    lambda d: d.mark(),
    lambda d: d.arm(),
    lambda d: d.disarm(),
]
LINE = st.tuples(st.integers(-5, 1030), st.integers(-5, 1030))


@given(st.lists(st.sampled_from(ACTIONS) | LINE, max_size=60), st.booleans())
def test_hands_never_leave_the_clamp_nor_move_what_is_off(
    steps: list[Callable[[OperatorControls], object] | tuple[int, int]], armed: bool
) -> None:
    session, wire = table(armed)
    controls = OperatorControls(session)
    session.sender.safe()
    at = 0.0
    for step in steps:
        was_armed, off = session.sender.armed, bool(session.overrides.gates_off)
        before = len(wire.got)
        if isinstance(step, tuple):
            at += 0.02
            feed(session, [f"{step[0]},{step[1]}"], at)
            fresh = wire.commands[before:]
            assert was_armed or not fresh
            assert not off or set(fresh) <= {0.0}
        else:
            with contextlib.suppress(StreamError):
                step(controls)
        assert all(-150 <= command <= 150 for command in wire.commands)
        if not session.sender.armed and wire.got:
            assert wire.commands[-1] == 0
    shot = snapshot(controls, columns=80)
    assert [state.drive.name for state in shot.drives] == ["motor"]


def test_a_record_keeps_what_was_done_by_hand_and_is_still_a_log(tmp_path: Path) -> None:
    path = tmp_path / "record.csv"
    recorder = Recorder(str(path))
    session, _ = table(recorder=recorder)
    controls = OperatorControls(session)
    recorder.add(b"100,5\n200")
    controls.hold("knob", 300)  # in the middle of a line
    recorder.add(b",6\n")
    controls.mark("filled")
    recorder.close()
    text = path.read_text()
    assert re.search(r"Z,200,6\n# \S+Z held knob 300\n# \S+Z mark mark 1 filled\n$", text)
    assert jr.look(path, session.bench, form=LogFormat(columns=("k", "w"))).rows == 2


@soak
def test_the_rows_say_what_was_held(cli: object, home: Path) -> None:
    from tests.helpers.command import Done

    done: Done = cli(  # type: ignore[operator]
        "live", "--source", "demo", "--inject", "damper=1880", "--duration", "2 s", "--json"
    )
    assert '"damper": ["held"]' in done.stdout.splitlines()[-1]


def test_live_from_python(home: Path, tmp_path: Path) -> None:
    events = tmp_path / "events.csv"
    with jr.Live(home / "bench.toml", "demo", events=events) as live:
        assert not live.armed
        live.arm()
        assert live.hold("damper", "50 %") == 2051
        live.set("blower", 100)
        live.gate("flap", False)
        live.mark("here")
        sample = next(s for s in live if s.by_hand.get("flap") == "gate_off")
        assert sample.flags["damper"] & jr.Flag.HELD
        assert sample.by_hand == {"blower": "held", "flap": "gate_off"}
        with pytest.raises(StreamError, match="expected a channel, found 'dampr'"):
            live.hold("dampr", 1)
        live.release("damper")
        live.disarm()
    said = events.read_text()
    assert ",damper,held,2051" in said
    assert ",mark 1,mark,here" in said


def test_hands_and_trips_are_told_by_one_clock(home: Path, tmp_path: Path) -> None:
    events = tmp_path / "events.csv"
    with jr.Live(home / "bench.toml", str(home / "roast.csv"), events=events) as live:
        list(live)
        live.mark("at the end")
    times = [float(line.partition(",")[0]) for line in events.read_text().splitlines()[1:]]
    assert times == sorted(times)
    assert times[-1] == 839.8  # the log's last


def test_a_stream_is_entered_once_and_says_what_was_no_sample(home: Path) -> None:
    bench = jr.load_bench(home / "bench.toml")
    warned = pytest.warns(UserWarning, match="2 lines were no samples: other text 2")
    with warned, jr.Live(bench, ["ready", "steady"]) as live:
        assert list(live) == []
    with pytest.raises(StreamError, match="entered already"), live:
        pass
    other = pytest.raises(jr.JetRulerError, match="no column 'ch0'; its lines are read as a, b")
    with other, jr.Live(bench, ["a,b", "1,2"]) as live:
        list(live)


def test_an_input_of_unknown_range_is_held_too() -> None:
    bench = jr.parse_bench(
        '[channel.g]\ncolumn = "g"\ninput = { unit = "cm", resolution = 0.1 }\n'
        'laws = [{ law = "line", gain = 2, unit = "mm", takes = "cm" }]\n'
    )
    with jr.Live(bench, ["g", "1.5"]) as live:
        assert live.hold("g", "12.5 cm") == 12.5
        assert live.hold("g", 3.25) == 3.25


def test_ends_that_a_key_proposes_are_those_of_the_log(home: Path) -> None:
    bench = jr.load_bench(home / "bench.toml")
    with jr.Live(home / "bench.toml", str(home / "roast.csv")) as live:
        list(live)
        found = live.ends("damper")
        assert found == "marks = [[205, 0], [3896, 100]]"  # what `look --ends damper` says
        assert live.write_ends("damper").count("205") == 1
    assert jr.load_bench(home / "bench.toml")["damper"].chain != bench["damper"].chain


@given(
    st.lists(st.tuples(st.integers(0, 40), st.none() | st.floats(-5, 5)), min_size=1, max_size=60),
    st.integers(1, 30),
)
def test_a_window_is_the_ends_of_what_came_in_each_column(
    samples: list[tuple[int, float | None]], columns: int
) -> None:
    history, at, told = History(), 0.0, []
    for step, value in samples:
        at += step * PIECE
        reading = Reading(np.array([np.nan if value is None else value]), np.array([0], np.uint8))
        history.add(np.array([at + PIECE / 2]), None, reading)
        told.append((at, value))
    now, span = at + PIECE, 30 * PIECE
    window = history.window(now, span, columns)
    known = [v for t, v in told if v is not None and t >= now - span - PIECE / 2]
    if known:
        assert np.nanmin(window.low) == min(known)
        assert np.nanmax(window.high) == max(known)
    else:
        assert np.isnan(window.low).all()


def test_a_trace_draws_what_it_is_given() -> None:
    values = np.array([0.0, 0.0, 3.0, 3.0])
    window = Window(values, values, np.zeros(4, np.uint8))
    drawn = trace_rows(window, (0.0, 3.0), 4 // ACROSS, 1, lambda text, flagged: Text(text))
    (row,) = (line.plain for line in drawn)
    assert row[0] == "⣀"
    bits = ord(row[1]) - 0x2800
    assert bits & 0x01  # the third column begins at the top
    assert bits & 0x40  # and reaches down to the column before
    assert bits & 0x08  # the last is at the top
    assert not bits & 0x80
    assert DOWN == 4


def test_flags_are_seen_without_colours() -> None:
    values = np.array([3.0, 3.0, 3.0, 3.0, np.nan, np.nan])
    window = Window(values, values, np.array([0, 0, 4, 4, 16, 16], np.uint8))
    for plain, signs in ((True, " !!"), (False, "  !")):
        rows = trace_rows(window, (0.0, 3.0), 3, 2, lambda text, flagged: Text(text), plain)
        assert rows[-1].plain == signs


WIRES = [
    ({}, 0.5, "motor=0.5"),
    ({"whole": False}, 0.1 + 0.2 + 0.11, "motor=0.41"),
    ({"whole": False, "decimals": 2}, 0.4, "motor=0.40"),
    ({"wire": "M{value}"}, 3.0, "M3"),
    ({"wire": "set {output} to {value}", "output": "pin9"}, -3.0, "set pin9 to -3"),
    ({"decimals": 1}, -0.0, "motor=0.0"),
]


@pytest.mark.parametrize(("given_", "command", "line"), WIRES)
def test_lines_on_the_wire(given_: dict[str, object], command: float, line: str) -> None:
    drive = Drive("motor", "knob", ((0, 0), (100, 200)), safe=0, **given_)  # type: ignore[arg-type]
    assert drive.line(command) == line


@pytest.mark.parametrize(
    "wire", ["M", "{value}{speed}", "{value:.2f}", "{value}\n", "{{value}}", "{value", "é{value}"]
)
def test_a_template_has_known_fields_only(wire: str) -> None:
    with pytest.raises(
        ParameterError,
        match=r"wire: expected a line with \{value\}",
    ):
        Drive("motor", "knob", ((0, 0), (100, 200)), safe=0, wire=wire)


def test_line_ends_reach_the_wire() -> None:
    bench, wire = jr.parse_bench(TABLE), Wire()
    sent: list[bytes] = []
    wire.write = sent.append  # type: ignore[method-assign, assignment]
    stream = LogFormat(columns=("k", "w"), line_end="crlf")
    Session(Parts(None, bench, stream, wire, {}, wire, armed=True)).sender.safe()
    assert sent == [b"motor=0\r\n"]


SPOKEN = TABLE.replace(
    "[drive.motor]",
    """[wire]
setup = ["MODE 2", "LIMIT 40"]
lines = { restart = "RST" }
[drive.motor]
gated = "COAST\"""",
)


def test_setup_lines_lines_by_name_and_what_a_gate_says() -> None:
    """Set-up lines go before safe whenever the other side is new; named ones once, behind."""
    bench, wire = jr.parse_bench(SPOKEN), Wire()
    parts = Parts(None, bench, LogFormat(columns=("k", "w")), wire, {}, wire, handled=True)
    session = Session(parts)
    controls = OperatorControls(session)
    with pytest.raises(StreamError, match="line restart: not armed, so nothing was sent"):
        controls.say("restart")
    controls.arm()
    assert wire.got == ["MODE 2", "LIMIT 40", "motor=0"]
    controls.say("restart")
    assert wire.got[3:] == ["RST"]
    feed(session, ["900,5"] * 100, 5.0, every=0.01)
    many = len(wire.got)
    controls.all_off()
    assert wire.got[many:] == ["motor=0", "COAST"]
    session.sender.begin()  # as when a port is there again
    assert wire.got[many + 2 :] == ["MODE 2", "LIMIT 40", "motor=0"]
    controls.disarm()
    assert wire.got[-1] == "motor=0"
    with pytest.raises(
        StreamError, match="expected a line of the bench, found 'rest': did you mean 'restart'"
    ):
        controls.say("rest")


def test_a_line_asked_for_while_nothing_takes_it_is_not_sent_late() -> None:
    bench, wire = jr.parse_bench(SPOKEN), Wire()
    parts = Parts(None, bench, LogFormat(columns=("k", "w")), wire, {}, wire, handled=True)
    session = Session(parts)
    controls, write = OperatorControls(session), wire.write
    controls.arm()

    def refused(data: bytes) -> None:
        raise OSError(5, "unplugged")

    wire.write = refused  # type: ignore[method-assign]
    controls.say("restart")
    assert session.sender.failure == "unplugged"
    wire.write = write  # type: ignore[method-assign]
    session.sender.insist(1.0)
    session.sender.begin()
    assert "RST" not in wire.got


@pytest.mark.parametrize(
    ("was", "now", "sentence"),
    [
        ('"MODE 2"', '"MODE\\n2"', "wire.setup[1]: expected a line of up to 80 plain signs"),
        ('"RST"', '""', "wire.lines.restart: expected a line of up to 80 plain signs"),
        ('"RST"', "3", "wire.lines.restart: expected a text"),
        ("setup =", "set =", "wire.set: unknown for a wire"),
        ('"COAST"', '"é"', "drive.motor.gated: expected a line of up to 80 plain signs"),
    ],
)
def test_what_is_no_line_is_refused(was: str, now: str, sentence: str) -> None:
    with pytest.raises(jr.JetRulerError) as caught:
        jr.parse_bench(SPOKEN.replace(was, now))
    assert sentence in str(caught.value)


MODES = TABLE.replace(
    'safe_when = ["hot"]',
    """modes = [
  { name = "calm", when = "hot", clamp = [-20, 20], wire = "SLOW {value}" },
  { name = "rest", gate = false },
]""",
)


@soak
def test_modes_of_a_drive() -> None:
    """A trip chooses one, a hand another; each has its line, its clamp, its gate; the slew goes
    on where the mode before left the motor."""
    bench, wire = jr.parse_bench(MODES), Wire()
    parts = Parts(None, bench, LogFormat(columns=("k", "w")), wire, {}, wire, True, handled=True)
    session = Session(parts)
    controls = OperatorControls(session)
    feed(session, ["900,5"] * 100, every=0.01)
    assert wire.got[-1] == "motor=150"
    feed(session, ["900,950"] * 100, 1.0, every=0.01)  # hot
    assert wire.got[-1] == "SLOW 20"
    first = next(line for line in wire.got if line.startswith("SLOW"))
    assert first == "SLOW 20"  # the clamp of the mode holds at once
    feed(session, ["900,5"] * 5, 2.0, every=0.01)
    commands = [float(line.partition("=")[2]) for line in wire.got if line.startswith("motor=")]
    assert commands[-1] <= 20 + 400 * 0.05 + 1e-9  # from 20 on, not from 150
    feed(session, ["900,5"] * 100, 2.1, every=0.01)
    assert wire.got[-1] == "motor=150"
    controls.mode("motor", "rest")
    feed(session, ["900,5"] * 3, 4.0, every=0.01)
    assert wire.got[-1] == "motor=0"
    assert session.overrides.words == {"motor": "mode_rest"}
    controls.mode("motor", None)
    feed(session, ["900,5"] * 100, 5.0, every=0.01)
    assert wire.got[-1] == "motor=150"
    with pytest.raises(StreamError, match="expected a mode of motor, found 'fast'"):
        controls.mode("motor", "fast")


def test_modes_in_a_log_are_those_of_the_stream(cli: object, home: Path) -> None:
    (home / "modes.toml").write_text(MODES)

    def knob(i: int) -> int:
        return 900 if i < 400 else 100

    def warm(i: int) -> int:
        return 950 if 100 <= i < 200 else 5

    rows = [f"{i / 100},{knob(i)},{warm(i)}" for i in range(600)]
    (home / "m.csv").write_text("\n".join(["t_s,k,w", *rows]) + "\n")
    call = cast(Callable[..., Any], cli)
    call("convert", "m.csv", "-b", "modes.toml", "--commands", "-o", "out.csv")
    lived = call("live", "--source", "m.csv", "-b", "modes.toml").stdout.splitlines()
    made = (home / "out.csv").read_text().splitlines()
    assert [line.split(",", 1)[1] for line in made] == [line.split(",", 1)[1] for line in lived]
    motor = np.array([float(line.split(",")[4]) for line in made[1:]])
    assert np.abs(motor[100:200]).max() <= 20
    assert np.abs(np.diff(motor))[~np.isin(np.arange(599), [99])].max() <= 4 + 1e-9


@pytest.mark.parametrize(
    ("was", "now", "sentence"),
    [
        (
            'when = "hot"',
            'when = "cold"',
            "motor.modes[1].when: expected a trip of the bench",
        ),
        ("clamp = [-20, 20]", "clamp = [-900, 20]", "drive.motor.modes.calm.clamp: expected"),
        ('"SLOW {value}"', '"SLOW"', "drive.motor.modes[1].wire: expected a line with {value}"),
        ('name = "rest"', 'name = "calm"', "drive.motor.modes: expected a name for each mode"),
        ("gate = false", "gait = false", "drive.motor.modes[2].gait: unknown for a mode"),
    ],
)
def test_what_is_no_mode_is_refused(was: str, now: str, sentence: str) -> None:
    assert was in MODES
    with pytest.raises(jr.JetRulerError) as caught:
        jr.parse_bench(MODES.replace(was, now))
    assert sentence in str(caught.value)


LEVELS = """
[channel.dial]
column = 1
converter = { bits = 10 }
laws = [{ law = "zones", over = [0, 1023], values = ["off", "low", "high"] }]
[drive.fan]
from = "dial"
marks = [["off", 0], ["low", 80], ["high", 255]]
safe = 0
"""


def test_all_off_holds_for_the_very_next_sample() -> None:
    """Also for one that was decided before, and waits."""
    bench = jr.parse_bench(LEVELS)
    with jr.Live(bench, ["900"] * 50) as live:
        samples = iter(live)
        while len(live._samples) < 20:  # they wait by now
            time.sleep(0.01)
        assert next(samples).commands == {"fan": 255}
        live.all_off()
        following = next(samples)
    assert following.commands == {"fan": 0}
    assert following.by_hand == {}  # it was decided before


def test_levels_by_name() -> None:
    bench = jr.parse_bench(LEVELS)
    assert bench.drives["fan"].marks == ((0, 0), (1, 80), (2, 255))
    commands = [sample.commands["fan"] for sample in jr.stream(["10", "400", "900"], bench)]
    assert commands == [0, 80, 255]
    with pytest.raises(jr.JetRulerError, match=r"marks: expected a zone of dial, found"):
        jr.parse_bench(LEVELS.replace('["low", 80]', '["lo", 80]'))


def test_a_mark_is_named_afterwards() -> None:
    session, _ = table()
    controls = OperatorControls(session)
    number = controls.mark()
    controls.name_mark(number, "first crack")
    assert controls.last_marks[0][1] == "first crack"


LAMPS = """
[channel.tray]
column = 1
converter = { bits = 10 }
laws = [{ law = "zones", edges = [300, 600], values = [[1, 0, 0], [0, 1, 0], [0, 0, 1]] }]
[drive.lamps]
from = "tray"
outputs = ["led1", "led2", "led.3"]
"""


def test_a_pattern_drives_its_outputs_live_and_on_the_chip() -> None:
    bench = jr.parse_bench(LAMPS)
    assert list(bench.drives) == ["lamps_led1", "lamps_led2", "lamps_led_3"]
    (first, second, third) = list(jr.stream(["100", "400", "900"], bench))
    assert [list(s.commands.values()) for s in (first, second, third)] == [
        [1, 0, 0],
        [0, 1, 0],
        [0, 0, 1],
    ]
    assert bench.drives["lamps_led_3"].output == "led.3"
    made = jr.export(bench["tray"])
    assert made.proof


@pytest.mark.parametrize(
    ("change", "says"),
    [
        (('"led.3"', ""), "3 different names"),
        (('from = "tray"', 'from = "trey"'), "did you mean 'tray'?"),
        (('from = "tray"', 'from = "tray"\nslew = 5'), "slew: unknown for a drive with outputs"),
        (('from = "tray"', 'from = "tray"\nsafe = [0, 1]'), "3 commands"),
        (("[[1, 0, 0], [0, 1, 0], [0, 0, 1]]", '["a", "b", "c"]'), "zones with lists as in"),
    ],
)
def test_what_is_no_pattern_is_told(change: tuple[str, str], says: str) -> None:
    with pytest.raises(jr.errors.BenchError, match=re.escape(says)):
        jr.parse_bench(LAMPS.replace(*change))
