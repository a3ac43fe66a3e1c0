"""The live view as somebody at the keyboard meets it: keys, mouse, scrolling, sizes, overlays."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

import pytest
from textual.pilot import Pilot
from textual.widgets import Footer, Input, RichLog

import jetruler as jr
from jetruler import demo
from jetruler.cli.view.app import VIEWS, LiveApp
from jetruler.cli.view.pictures import BAR_AT, bar_room, gate_at, ruler_room
from jetruler.cli.view.widgets import KEYS, ChannelRow, DriveRow, Help, Question
from jetruler.core.bench.bench import LogFormat
from jetruler.live.session import Parts, Session
from jetruler.live.sources import SourceEnded
from tests.helpers.sizes import soak
from tests.live.test_operator_controls import TABLE as HANDS_TABLE

ROOT = Path(__file__).parents[2]


@pytest.fixture(autouse=True)
def _few_pictures(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("jetruler.cli.view.app.FRAMES", 8)


TABLE = HANDS_TABLE.replace("slew = 400\n", "")  # what is set shows at once


class Wire:
    """A board: gives its lines one after another, the last one for ever; keeps what it is sent."""

    lossless, joined_late, name = False, False, "wire"

    def __init__(self, *lines: str) -> None:
        self.lines, self.got = list(lines), ""

    def open(self) -> None: ...

    def read(self) -> bytes:
        time.sleep(0.05)  # a view that never rests would keep every press waiting
        line = self.lines.pop(0) if len(self.lines) > 1 else self.lines[0]
        if line == "end":
            raise SourceEnded
        return f"{line}\n".encode()

    def write(self, data: bytes) -> None:
        self.got += data.decode()

    def close(self) -> None: ...


def app_of(
    text: str, wire: Wire, *columns: str, armed: bool = False, path: Path | None = None
) -> LiveApp:
    if path is not None:
        path.write_text(text)
    stream = LogFormat(columns=columns)
    bench = jr.parse_bench(text)
    given = None if path is None else str(path)
    parts = Parts(given, bench, stream, wire, {}, wire, armed=armed, handled=True, viewed=True)
    return LiveApp(Session(parts))


def screen_of(app: LiveApp) -> str:
    """What stands on the screen, line by line."""
    strips = app.screen._compositor.render_strips()
    return "\n".join("".join(segment.text for segment in strip) for strip in strips)


class Person:
    """Somebody at the view."""

    def __init__(self, app: LiveApp, pilot: Pilot[Any]) -> None:
        self.app, self.pilot = app, pilot

    async def sees(self, pattern: str) -> str:
        """Wait until this stands on the screen."""
        for _ in range(200):
            await self.pilot.pause(0.02)
            text = screen_of(self.app)
            if re.search(pattern, text) or re.search(pattern, " ".join(text.split())):
                return text
        raise AssertionError(f"{pattern!r} never came:\n{text}")

    async def press(self, *keys: str) -> None:
        await self.pilot.press(*keys)

    async def type(self, text: str) -> None:
        """A text, sign by sign, and Enter."""
        names = {" ": "space", ".": "full_stop", "%": "percent_sign", "-": "minus"}
        await self.press(*(names.get(sign, sign) for sign in text), "enter")

    async def until(self, holds: Callable[[], bool]) -> None:
        for _ in range(200):
            await self.pilot.pause(0.02)
            if holds():
                return
        raise AssertionError(screen_of(self.app))


def meet(
    app: LiveApp, script: Callable[[Person], Awaitable[None]], size: tuple[int, int] = (80, 24)
) -> None:
    """Let somebody work with a view of this size."""

    async def run() -> None:
        async with app.run_test(size=size) as pilot:
            person = Person(app, pilot)
            await person.sees("live for|waiting|STALE")
            await script(person)

    asyncio.run(run())
    app.finish()


def table(*lines: str, armed: bool = False, path: Path | None = None) -> tuple[LiveApp, Wire]:
    wire = Wire(*(lines or ("500,5",)))
    return app_of(TABLE, wire, "k", "w", armed=armed, path=path), wire


def test_the_demo_at_80_by_24_has_what_matters() -> None:
    lines = demo.read("roast.csv").decode().splitlines()[1:2000]
    wire = Wire(*(line.rsplit(",", 1)[0] for line in lines))
    columns = demo.read("roast.csv").decode().splitlines()[0].split(",")[:-1]
    text = demo.read("bench.toml").decode().replace("[stream]", "[stream]\n# ")
    app = app_of(re.sub(r"(?ms)^\[stream\].*?(?=^\[)", "", text), wire, *columns)

    async def script(p: Person) -> None:
        seen = await p.sees("live for")
        for part in ("Roaster bench · wire", "samples/s", "0 bad lines", "counts", "ends seen"):
            assert part in seen
        for name in (*app.session.bench.channels, *app.session.bench.trips, "flap", "blower"):
            assert re.search(rf"(?m)^[› ]?{name} ", seen), name
        assert "disarmed: shown, not sent" in seen
        assert "^O all off" in seen
        assert not app.query_one("#log").display
        assert max(map(len, seen.splitlines())) <= 80
        await p.press("t")
        await p.sees("−1:00 min")
        await p.press("minus", "t")
        await p.sees(r"┤[\s\S]*−30.0 s")

    meet(app, script)


def test_every_key_is_named_once_and_stands_in_the_guide() -> None:
    signs = [sign for key in KEYS for sign in key.keys.split(",")]
    assert len(signs) == len(set(signs))
    guide = (ROOT / "docs/motor.md").read_text("utf-8")
    listed = re.findall(r"^\| (\S.*?) \| (.+) \|$", guide, re.M)[1:]
    assert listed == [(key.shown, key.means) for key in KEYS if key.shown]


@soak
def test_the_motor_guide_step_by_step(tmp_path: Path) -> None:
    app, wire = table()

    async def script(p: Person) -> None:
        await p.press("a")
        await p.sees(r"send commands to wire\?")
        await p.press("y")
        await p.sees(r"drives \(armed\)")
        await p.press("up")
        await p.sees("›motor")
        await p.press("equals_sign")
        await p.type("120")
        await p.sees(r"›motor +120 .*= 120")
        await p.press("right", "right")
        await p.sees(r"= 126")
        await p.press("u")
        await p.sees("motor released")
        await p.press("f")
        await p.type("warm")
        await p.sees("motor .*← warm")
        await p.press("u", "down")
        await p.sees("›knob")
        await p.press("equals_sign")
        await p.type("25.5 %")  # a blank is a sign like any other
        await p.sees("BY HAND: knob 255")
        await p.press("equals_sign")
        await p.type("900%")
        await p.sees("a percentage of its range or a value in %")
        await p.press("u", "m")
        await p.sees("mark 1")
        await p.press("space")
        await p.sees("motor .*OFF")
        await p.press("q")

    meet(app, script)
    assert app.stopped
    assert "motor=120\n" in wire.got
    assert wire.got.endswith("motor=0\n")


def test_one_key_stops_everything_also_while_something_is_typed() -> None:
    app, wire = table(armed=True)

    async def script(p: Person) -> None:
        await p.until(lambda: "motor=0\n" in wire.got)
        await p.press("equals_sign", "5", "space", "m", "m")
        field = app.query_one("#prompt", Input)
        assert (field.display, field.value) == (True, "5 mm")
        assert app.controls.marks == 0  # no typed sign is a command
        await p.press("ctrl+o")
        await p.sees("motor .*OFF")
        assert field.value == "5 mm"  # and what was typed is still there
        await p.press("escape")
        assert not field.display
        footer = "".join(str(key.render()) for key in app.query_one(Footer).children)
        assert "all off" in footer
        await p.press("question_mark")
        app.controls.gate("motor", on=True)
        await p.press("ctrl+o")  # over the help too
        await p.until(lambda: "motor" in app.session.overrides.gates_off)

    meet(app, script)


@soak
def test_the_mouse_chooses_drags_and_clicks_gates() -> None:
    app, wire = table(armed=True)

    async def script(p: Person) -> None:
        await p.sees("›knob")
        rows = {row.row_name: row for row in app.query(ChannelRow)}
        await p.pilot.click(rows["warm"], offset=(2, 0))
        await p.sees("›warm")
        await p.pilot.click(rows["knob"], offset=(2, 0))
        before, room = ruler_room(80)
        far, near = before + room - 2, before + 1
        await drag(p, rows["knob"], near, far)  # not held: nothing moves
        assert not app.session.overrides.held
        await p.press("h")
        await p.sees("BY HAND: knob 500")
        await drag(p, rows["knob"], near, far)
        await p.sees("BY HAND: knob 1023")
        (motor,) = (row for row in app.query(DriveRow) if row.row_name == "motor")
        gate = gate_at(80)[0]
        await p.pilot.click(motor, offset=(gate, 0))
        await p.sees("motor .*OFF")
        await p.pilot.click(motor, offset=(gate, 0))
        await p.sees(r"motor .*on  ")
        await p.press("equals_sign")
        await p.type("0")
        await p.sees("= 0")
        await drag(p, motor, BAR_AT + 3, BAR_AT + bar_room(80) - 1)
        await p.sees("= 150")

    meet(app, script)
    assert "motor=150\n" in wire.got


async def drag(p: Person, row: Any, start: int, end: int) -> None:
    await p.pilot.mouse_down(row, offset=(start, 0))
    await p.pilot.hover(row, offset=((start + end) // 2, 0))
    await p.pilot.hover(row, offset=(end, 0))
    await p.pilot.mouse_up(row, offset=(end, 0))
    await p.pilot.pause(0.1)


MANY = "\n".join(
    f"[channel.c{i:02}]\ncolumn = {i + 1}\nconverter = {{ bits = 10 }}\n"
    f'laws = [{{ law = "line", gain = {i + 1} }}]'
    for i in range(30)
)


@soak
def test_thirty_channels_scroll_and_follow_what_is_chosen() -> None:
    app = app_of(MANY, Wire(",".join(["7"] * 30)), *(f"k{i}" for i in range(30)))

    async def script(p: Person) -> None:
        seen = await p.sees("›c00")
        assert "c29" not in seen
        await p.press("up")  # round to the last one
        seen = await p.sees("›c29")
        assert "c00" not in seen
        box = app.query_one("#channels")
        assert box.scroll_y > 0
        box.scroll_home(animate=False)
        await p.sees("c00")
        await p.pilot._post_mouse_events([_wheel()], "#channels", offset=(5, 5))
        await p.until(lambda: box.scroll_y > 0)

    meet(app, script)


def _wheel() -> Any:
    from textual.events import MouseScrollDown

    return MouseScrollDown


@soak
@pytest.mark.parametrize("size", [(40, 10), (120, 40), (200, 60), (20, 5)])
def test_it_fits_any_window(size: tuple[int, int]) -> None:
    app, _ = table()

    async def script(p: Person) -> None:
        await p.sees("Table")
        await p.pilot.resize_terminal(*size)
        await p.pilot.pause(0.3)
        lines = screen_of(app).splitlines()
        assert len(lines) == size[1]
        assert max(map(len, lines)) <= size[0]
        assert app.query_one("#log").display == (size[1] >= 34)
        if size[1] >= 40:
            assert sum("▼" in line for line in lines) == 2  # both edges of every ruler
        await p.pilot.resize_terminal(80, 24)
        await p.sees("›knob")

    meet(app, script)


@soak
def test_help_is_an_overlay_with_every_key() -> None:
    app, _ = table()

    async def script(p: Person) -> None:
        await p.press("question_mark")
        await p.pilot.pause(0.2)
        assert isinstance(app.screen, Help)
        seen = screen_of(app)
        assert "all gates off at once, also while typing" in seen
        await p.press("end")  # it scrolls to the last one
        await p.sees("what has happened")
        await p.press("escape")
        assert not isinstance(app.screen, Help)

    meet(app, script, (80, 20))


def test_the_log_says_what_happened() -> None:
    app, _ = table("500,5", "500,950", "500,950")

    async def script(p: Person) -> None:
        await p.press("l")
        await p.sees("hot on")
        await p.press("h")
        await p.sees("knob held 500")
        assert app.query_one("#log", RichLog).display
        await p.press("l")
        await p.until(lambda: not app.query_one("#log", RichLog).display)

    meet(app, script)


@soak
def test_ends_are_asked_and_just_those_are_written(tmp_path: Path) -> None:
    path = tmp_path / "table.toml"
    travel = [f"{k},5" for k in (*[30] * 60, *range(30, 994, 8), *[994] * 60)]
    app, wire = table("\n".join(travel), "994,5", path=path)

    async def script(p: Person) -> None:
        await p.until(lambda: len(wire.lines) == 1)
        await p.press("e")
        await p.until(lambda: isinstance(app.screen, Question))
        proposed = re.search(r"marks = \[\[.*?\]\]", app.screen.text)  # type: ignore[attr-defined]
        assert proposed
        wire.lines = ["5,5"]  # the sensor moves on while somebody reads the question
        await p.pilot.pause(0.3)
        await p.press("y")
        await p.until(lambda: proposed[0] in path.read_text())

    meet(app, script)


def test_a_stream_that_ends_ends_the_view() -> None:
    app, _ = table("500,5", "510,5", "end")

    async def run() -> None:
        async with app.run_test() as pilot:
            for _ in range(100):
                await pilot.pause(0.02)
                if app._exit:
                    break
            assert app._exit

    asyncio.run(run())
    assert not app.stopped


def test_no_colours_still_show_what_is_flagged(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("NO_COLOR", "1")
    app, _ = table("1023,5")

    async def script(p: Person) -> None:
        assert app.no_color
        await p.press("t")
        await p.sees("high_rail")

    meet(app, script)
    assert VIEWS[1] == app.view
