"""The loop of a stream, with sources and wires made up here; and trips on recorded logs."""

from __future__ import annotations

import contextlib
import csv
import time
from dataclasses import replace
from pathlib import Path

import pytest

from jetruler import Channel, Counts, Line, demo, load_bench
from jetruler.cli.view.pictures import ruler_rows
from jetruler.core.bench.bench import LogFormat
from jetruler.demo.board import Board, Fault
from jetruler.live.controls import ChannelState, OperatorControls, snapshot
from jetruler.live.overrides import FileWatcher
from jetruler.live.session import Parts, Session
from jetruler.live.sources import SourceEnded, SourceGone
from tests.conftest import Cli
from tests.helpers.sizes import soak


class Script:
    """A source that plays what it is given: bytes, or an exception to raise."""

    lossless, joined_late = True, False

    def __init__(self, *steps: bytes | type[BaseException]) -> None:
        self.name, self.steps, self.got = "script", list(steps), b""
        self.opened = 0

    def open(self) -> None:
        self.opened += 1

    def read(self) -> bytes:
        if not self.steps:
            raise SourceEnded
        step = self.steps.pop(0)
        if isinstance(step, bytes):
            return step
        raise step("pulled out")

    def write(self, data: bytes) -> None:
        self.got += data

    def close(self) -> None: ...


@pytest.fixture
def parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Parts:
    """A session on the demo's bench, armed, with a script that is still empty; every piece of it
    is decided on by itself."""
    monkeypatch.setattr("jetruler.live.source_reader.AT_ONCE", 1)
    path = tmp_path / "bench.toml"
    path.write_bytes(demo.read("bench.toml"))
    bench = load_bench(path)
    source = Script()
    return Parts(str(path), bench, bench.log or LogFormat(), source, {}, wire=source, armed=True)


def script(parts: Parts, *steps: bytes | type[BaseException]) -> Script:
    assert isinstance(parts.source, Script)
    parts.source.steps = list(steps)
    return parts.source


def board_lines(seconds: float, *faults: str) -> list[bytes]:
    board = Board(speed=1.0, faults=tuple(map(Fault.read, faults)))
    return [board.step(0.5) for _ in range(int(2 * seconds))]


@soak
def test_a_roast_from_charge_to_safe_end(parts: Parts) -> None:
    source = script(parts, *board_lines(60))
    session = Session(parts)
    session.run()
    said = source.got.decode().splitlines()
    assert said[:3] == ["flap=2000", "buzzer=0", "blower=255"]
    assert said[-3:] == ["flap=2000", "buzzer=0", "blower=255"]
    assert "buzzer=1" in said  # too hot before the charge
    assert said.index("buzzer=1") < len(said) - 1 - said[::-1].index("buzzer=0")
    flap = [int(line.removeprefix("flap=")) for line in said if line.startswith("flap=")]
    assert min(flap) >= 1000
    assert max(flap) <= 2000
    assert 1050 < min(flap) < 1200  # where the knob stands at first
    assert session.processor.rows == 120
    assert set(session.processor.on_since) == {"too-hot", "charge"}
    assert session.processor.on_since["charge"] == pytest.approx(32, abs=3)


def test_a_source_that_is_pulled_out_in_mid_line(parts: Parts) -> None:
    lines = board_lines(3)
    source = script(parts, lines[0] + lines[1][:9], SourceGone, lines[2], SourceGone, *lines[3:])
    session = Session(parts)
    session.run()
    assert source.opened == 3
    assert session.processor.rows == 5  # the one that was torn is lost, and counted
    assert dict(session.bad) == {"torn": 1}
    assert session.progress.returns == 2
    assert source.got.count(b"flap=2000\n") >= 3


@pytest.mark.parametrize("samples", [3, 12])
@pytest.mark.parametrize("end", [SourceEnded, KeyboardInterrupt])
def test_samples_that_wait_for_their_pace_are_not_lost(
    parts: Parts, samples: int, end: type[BaseException]
) -> None:
    script(parts, *board_lines(samples / 2), end)
    session = Session(replace(parts, wire=None))
    with contextlib.suppress(KeyboardInterrupt):
        session.run()
    assert session.processor.rows == samples


def test_a_file_that_is_being_saved_is_not_read_yet(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text("old")
    saved = FileWatcher(str(path))
    assert not saved.again()
    path.write_text("")  # an editor has begun
    assert not saved.again()
    path.write_text("newer")
    assert [saved.again() for _ in range(3)] == [False, True, False]
    path.unlink()
    assert [saved.again() for _ in range(3)] == [False, True, False]


def test_an_error_of_our_own_still_sends_safe(
    parts: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    source = script(parts, *board_lines(5))
    session = Session(parts)

    def broken(*_: object) -> None:
        raise ZeroDivisionError

    monkeypatch.setattr(session.processor, "take", broken)
    with pytest.raises(ZeroDivisionError):
        session.run()
    assert source.got.endswith(b"flap=2000\nbuzzer=0\nblower=255\n")


def test_an_open_wire_sends_the_flap_to_safe(parts: Parts) -> None:
    source = script(parts, *board_lines(12, "open:ch2@8+2"))
    Session(parts).run()
    said = [line for line in source.got.decode().splitlines() if line.startswith("flap=")]
    # Safe, then slewing to where the knob stands; safe at once; slewing back; safe at the end.
    jumps = [i for i in range(1, len(said)) if said[i] == "flap=2000" != said[i - 1]]
    assert len(jumps) == 2
    assert jumps[1] == len(said) - 1


def test_the_view_says_what_is_so(parts: Parts) -> None:
    script(parts, *board_lines(40, "open:ch0@38"), b"ready\n")
    session = Session(parts)
    session.run()
    shot = snapshot(OperatorControls(session))
    assert shot.source == "script"
    assert shot.bad == "1 bad line (other text 1)"
    bean = shot.channel("bean")
    assert bean is not None
    assert (bean.count, round(bean.volts, 3)) == (4095, 3.3)
    assert "no value" in ruler_rows(bean, 80, 1, chosen=False)[0].plain
    assert any("bean high_rail" in note for note in shot.notes)
    (loose,) = (state for state in shot.trips if state.trip.name == "loose")
    assert loose.on
    flap = shot.drive("flap")
    assert flap is not None
    assert flap.safe == "trip loose"
    assert shot.armed
    assert "loose on" in [line.partition("  ")[2] for line in shot.log]


def test_a_duration_counts_from_the_first_sample(parts: Parts) -> None:
    session = Session(parts)
    now = time.monotonic()
    session.progress.started = now - 10.0
    assert session._is_over(5.0)  # nothing came: it counts from the start
    session.progress.add(now - 4.0, 1)
    assert not session._is_over(5.0)
    session.progress.add(now - 1.0, 1)
    assert session._is_over(3.0)
    assert not session._is_over(None)


@pytest.mark.parametrize(
    ("gain", "shown"), [(1, "4000 count"), (30, " 120000 "), (12345678.9, " 493827156… ")]
)
def test_a_value_that_is_too_long_is_never_cut_in_silence(gain: float, shown: str) -> None:
    knob = Channel("k", Counts(12) >> Line(gain), 1, decimals=3 if gain > 1000 else 0)
    state = ChannelState(knob, 4000, knob.ruler(4000), lowest=0, highest=1, flags=0)
    assert shown in ruler_rows(state, 80, 1, chosen=False)[0].plain


class Editor(Script):
    """A source that is silent while somebody edits the bench file; each edit is waited for."""

    session: Session
    said: list[str]
    seen: list[tuple[str, float | None]]

    def read(self) -> bytes:
        path, text = Path(str(self.session.parts.bench_path)), demo.read("bench.toml").decode()
        for edited, says in (
            (text.replace("above = 225, release = 220", "above = 100"), "was read again"),
            ("nonsense", "the last valid bench is still used"),
        ):
            path.write_text(edited)
            until = time.monotonic() + 20
            while not self.has_said(says) and time.monotonic() < until:
                time.sleep(0.01)
            self.seen.append((says, self.session.bench.trips["too-hot"].conditions[0].above))
        raise SourceEnded

    def has_said(self, words: str) -> bool:
        """Whether a message had these words; what `check` finds may be said after it."""
        return any(words in message for message in self.said)


def test_a_saved_bench_is_in_force_at_once(parts: Parts, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("jetruler.live.session.LOOK_AGAIN", 0.02)
    source = Editor()
    source.said, source.seen = [], []
    edited = replace(parts, source=source, wire=None, messages=source.said.append)
    source.session = Session(edited)
    source.session.run()
    assert source.has_said("the last valid bench is still used")
    assert source.seen == [
        ("was read again", 100),
        ("the last valid bench is still used", 100),
    ]


LOG = """
[converter]
bits = 10
[channel.a]
column = "a"
laws = [{ law = "counts", bits = 10 }]
[trip.high]
any = [{ channel = "a", above = 500 }]
hold = "0.2 s"
"""


@pytest.mark.parametrize(
    ("head", "times", "on"),
    [
        ("t_ms", ["0", "100", "200", "300", "400"], "300"),
        ("time (min)", ["0", "0.001", "0.002", "0.005", "0.006"], "0.005"),
        ("when", [f"2026-03-14 08:00:00.{i}00" for i in range(5)], "2026-03-14 08:00:00.300"),
        ("t_s", ["0.0", "0.1", "0.2", "0.3", "0.4"], "0.3"),
    ],
)
def test_events_in_the_time_of_the_log(
    cli: Cli, home: Path, head: str, times: list[str], on: str
) -> None:
    (home / "b.toml").write_text(LOG)
    rows = [f"{t},{a}" for t, a in zip(times, [100, 600, 600, 600, 100], strict=True)]
    (home / "log.csv").write_text("\n".join([f"{head},a", *rows, ""]))
    done = cli("convert", "log.csv", "-b", "b.toml", "-o", "o.csv", "--events", "e.csv")
    assert done.returncode == 0, done.stderr
    with (home / "e.csv").open() as file:
        found = list(csv.reader(file))
    assert found[0] == [head, "trip", "state", "values"]
    assert found[1] == [on, "high", "on", "a=600.0"]
    assert found[2] == [times[4], "high", "off", "a=100.0"]


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (["--events", "-"], "events: expected a file, found standard output"),
        (
            ["--events", "e.csv", "--only", "bean"],
            "trip.loose looks at damper, which is not converted",
        ),
        (["--events", "none.d/e.csv"], "expected a folder none.d, found none"),
    ],
)
def test_events_that_cannot_be(cli: Cli, home: Path, args: list[str], says: str) -> None:
    done = cli("convert", "roast.csv", "-o", "o.csv", *args)
    assert done.returncode == 2
    assert says in done.stderr
    assert not (home / "o.csv").exists()
    assert not (home / "e.csv").exists()


def test_a_bench_without_trips_has_no_events(cli: Cli, home: Path) -> None:
    (home / "b.toml").write_text(LOG.split("[trip")[0])
    (home / "log.csv").write_text("a\n1\n2\n")
    done = cli("convert", "log.csv", "-b", "b.toml", "-o", "o.csv", "--events", "e.csv")
    assert done.returncode == 2
    assert "expected a bench that decides, found no trips" in done.stderr
    (home / "b.toml").write_text(LOG)
    done = cli("convert", "log.csv", "-b", "b.toml", "-o", "o.csv", "--events", "e.csv")
    assert "no clock, which trip.high.hold asks for; name its time column" in done.stderr


def test_check_knows_the_trips(cli: Cli, home: Path) -> None:
    text = demo.read("bench.toml").decode().replace('within = "5 s"', 'within = "0.5 s"')
    (home / "bench.toml").write_text(text.replace("above = 225, release = 220", "above = 999999"))
    alone = cli("check")
    assert "trip.too-hot.any[1].above (unreachable-threshold)" in alone.stdout
    assert "slow-smoothing" not in alone.stdout  # five samples: nobody knows how long they take
    with_log = cli("check", "--log", "roast.csv")
    assert (
        "bean is smoothed over 0.8 s, and the trip needs a change within 0.5 s" in with_log.stdout
    )


def test_jumps_of_time_are_counted_and_said(cli: Cli, home: Path) -> None:
    """A board that starts its time again, in a log and live."""
    head, *rows = (home / "roast.csv").read_text().splitlines()
    (home / "twice.csv").write_text("\n".join([head, *rows[:60], *rows[:60]]) + "\n")
    done = cli("convert", "twice.csv", "-o", "o.csv", "--events", "e.csv")
    assert (
        "the log's time went back or jumped 1 times: smoothing and trips with times" in done.stderr
    )
    live = cli("live", "--source", "twice.csv")
    assert "jumps of its clock 1" in live.stderr
