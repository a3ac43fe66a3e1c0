"""The live view: widgets over snapshots of a session that runs in its own thread.

Nothing here waits for the session and nothing there waits for a terminal: the view asks for a
snapshot, draws what comes, and posts commands to the desk.
"""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
import threading
from collections.abc import Callable
from typing import Any, ClassVar

from rich.text import Text
from textual import events, on
from textual.app import App, ComposeResult, SuspendNotSupported
from textual.binding import Binding, BindingType
from textual.containers import Vertical, VerticalScroll
from textual.message import Message
from textual.screen import Screen
from textual.theme import Theme
from textual.widgets import Footer, Input, RichLog, Static

from ...core.error_types import JetRulerError, printable
from ...live.api import Runner
from ...live.controls import OperatorControls, Snapshot, snapshot
from ...live.session import Session
from ...system import ending_signals, on_rest, rest
from ..streams import AMBER, IVORY, JET, as_shown
from . import pictures as draw
from .widgets import (
    KEYS,
    ChannelRow,
    ClosableTerminal,
    DriveRow,
    EventLog,
    HandRow,
    Help,
    Question,
    Row,
    Words,
)

#: What the view can show, in the order in which `t` goes through them.
VIEWS = ("rulers", "traces", "one trace")
#: Seconds that a trace can show.
SPANS = (5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0)
#: Pictures a second.
FRAMES = 10
#: Rows of the log, and how tall a window must be for it.
LOG_ROWS, TALL = 6, 34


class Snapped(Message):
    """News from the session: a fresh snapshot, or its end."""


class LiveApp(App[int]):
    """The view of a session.

    session: what is shown; it runs in a thread that the view starts and stops. lasting: seconds.
    """

    CSS = f"""
    Screen {{ background: {JET}; color: {IVORY}; layout: vertical; }}
    #head {{ height: 2; }}
    #columns, .drives-head, .trips-head {{ height: 1; }}
    #channels {{ height: 1fr; scrollbar-size-vertical: 1; background: {JET}; }}
    #large {{ height: 1fr; display: none; }}
    Row, Words {{ height: 1; width: 100%; }}
    #trips, #drives, #notes {{ height: auto; }}
    #notes {{ color: {AMBER}; max-height: 6; }}
    #log {{ height: {LOG_ROWS}; display: none; background: {JET}; color: {draw.GREY};
            border-top: solid {draw.GREY}; scrollbar-size-vertical: 1; }}
    * {{ scrollbar-background: {JET}; scrollbar-color: {draw.GREY}; }}
    #prompt {{ height: 1; border: none; padding: 0; display: none; background: {JET}; }}
    Footer {{ background: {JET}; color: {draw.GREY}; }}
    Help, Question {{ align: center middle; background: {JET} 40%; }}
    #help, #question {{ width: auto; max-width: 100%; height: auto; max-height: 100%;
        padding: 1 2; border: round {AMBER}; background: {JET}; color: {IVORY}; }}
    #help Static, #question Static {{ width: auto; }}
    """
    ENABLE_COMMAND_PALETTE = False
    AUTO_FOCUS = None
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding(
            key.keys,
            key.action,
            key.short or key.means,
            show=bool(key.short),
            key_display=key.shown.replace("Ctrl-", "^"),
            priority=key.always,
        )
        for key in KEYS
    ]

    def __init__(self, session: Session, lasting: float | None = None) -> None:
        super().__init__(ansi_color=False)
        self.session, self.controls = session, OperatorControls(session)
        self.shot: Snapshot | None = None
        self.chosen = ""
        self.view = VIEWS[0]
        self.time_span = 60.0
        self.message = ""
        self.log_wanted: bool | None = None
        """Whether somebody wants the log; None: where there is room."""
        self.stopped = False
        self.runner = Runner(session, ended=lambda: self._hear(None), lasting=lasting)
        self._asked = False
        self._news_lock = threading.Lock()
        self._news: Snapshot | None = None
        self._posted = self._over = False
        """Whether news wait to be drawn; whether the session is over."""
        self._logged: tuple[str, ...] = ()
        self._entered: Callable[[str], None] | None = None
        self._shown_notes: list[str] | None = None
        self._wide = 80
        """Cells of a channel's row, beside the scroll bar."""

    @property
    def base(self) -> Screen[Any]:
        """The view itself, also while something is over it."""
        return self.screen_stack[0]

    # What is on the screen.

    def compose(self) -> ComposeResult:
        yield Words(id="head")
        yield Words(id="columns")
        yield VerticalScroll(id="channels", can_focus=False)
        yield Words(id="large")
        yield Words(id="turned")
        yield Vertical(id="trips")
        yield Vertical(id="drives")
        yield Static(id="notes")
        yield Input(id="prompt")
        yield EventLog(id="log", wrap=True)
        yield Footer(show_command_palette=False)

    def on_mount(self) -> None:
        """Start the session, and the pictures."""
        colours = {"background": JET, "foreground": IVORY, "primary": AMBER, "accent": AMBER}
        self.register_theme(Theme("jet", dark=True, **colours))  # type: ignore[arg-type]
        self.theme = "jet"
        self._listen()
        self.runner.start()
        self.set_interval(1 / FRAMES, self.request)
        self.request()

    def _listen(self) -> None:
        """Signals end the view in order, and rest it."""
        for number in (*ending_signals(), signal.SIGINT):
            with contextlib.suppress(NotImplementedError, ValueError, RuntimeError, OSError):
                if signal.getsignal(number) is not signal.SIG_IGN:
                    loop = asyncio.get_running_loop()
                    code = 0 if number == signal.SIGINT else 128 + number  # somebody has had enough
                    loop.add_signal_handler(number, self.action_end, code)
        if not self.is_headless:
            on_rest(self._rest_soon)

    def _rest_soon(self) -> None:
        self.call_later(self.action_rest)

    def request(self) -> None:
        """Ask for a snapshot, unless one is on its way."""
        if self._asked:
            return
        self._asked = True
        columns, span = self._columns, self.time_span
        self.session.post(lambda: self._hear(snapshot(self.controls, span, columns)))

    @property
    def _columns(self) -> int:
        """The columns of the traces that are shown."""
        width = self.size.width if self.view == VIEWS[2] else self._wide
        return draw.window_columns(self.view, width)

    def _hear(self, shot: Snapshot | None) -> None:
        """News from the session's thread, which does not wait for the view."""
        with self._news_lock:
            self._news, self._over = shot or self._news, self._over or shot is None
            already_posted, self._posted = self._posted, True
        if not already_posted:  # what comes before it is drawn takes its place
            self.post_message(Snapped())

    async def on_snapped(self, _: Snapped) -> None:
        """Draw a snapshot; end with the session."""
        with self._news_lock:
            shot, self._news, self._posted = self._news, None, False
        self._asked = False
        if self._over:
            self.exit(0)
        elif shot is not None and self.screen_stack and self.base.query("#head"):
            # else it is being taken down
            self.shot = shot
            if self.chosen not in shot.names:
                self.chosen = shot.names[0]
            await self._draw(shot)

    async def on_resize(self) -> None:
        """Draw it again in the new size."""
        if self.shot is not None and self.base.query("#head"):
            await self._draw(self.shot)

    async def _draw(self, shot: Snapshot) -> None:
        width = self.size.width
        self.base.query_one("#head", Words).show(draw.head(shot, width))
        above = draw.columns_head(shot, self.view, self.time_span, width)
        self.base.query_one("#columns", Words).show(above)
        self._draw_log(shot)
        await self._draw_trips(shot, width)
        await self._draw_drives(shot, width)
        notes_shown = [*shot.notes, *([self.message] if self.message else [])]
        notes = self.base.query_one("#notes", Static)
        if notes_shown != self._shown_notes:
            notes.update(Text(as_shown("\n".join(map(printable, notes_shown)))))
            notes.display = bool(notes_shown)
            self._shown_notes = notes_shown
        await self._draw_channels(shot, width)

    async def _draw_channels(self, shot: Snapshot, width: int) -> None:
        box, large = self.base.query_one("#channels"), self.base.query_one("#large", Words)
        one = self.view == VIEWS[2]
        box.display, large.display = not one, one
        self.base.query_one("#columns").display = not one
        plain = self.no_color
        if one:
            drive = shot.drive(self.chosen)
            state = shot.channel(drive.source if drive is not None else self.chosen)
            size = (width, max(4, large.size.height))
            lines = draw.large_trace(
                shot, state or shot.channels[0], self.time_span, size, plain=plain
            )
            large.show(Text("\n", no_wrap=True).join(lines))
        traces = self.view == VIEWS[1]
        turned = self.base.query_one("#turned", Words)
        turned.display = traces and bool(shot.trips)
        if turned.display:
            turned.show(draw.turned(shot, self.time_span, width))
        rows = await self._rows(box, ChannelRow, [s.channel.name for s in shot.channels])
        most = draw.TRACE_ROWS if traces else draw.RULER_ROWS
        each, spare = divmod(box.size.height, max(1, len(rows)))
        wide = self._wide = width - (each < 1)  # beside the scroll bar
        for i, (row, state) in enumerate(zip(rows, shot.channels, strict=True)):
            if isinstance(row, ChannelRow):
                row.state = None if traces else state
            chosen = state.channel.name == self.chosen
            if traces:
                tall = max(1, min(most, each + (i < spare)))
                row.put(draw.trace_lines(state, wide, tall, chosen, plain=plain))
            else:
                row.put(draw.ruler_rows(state, wide, max(1, min(most, each)), chosen))

    async def _draw_trips(self, shot: Snapshot, width: int) -> None:
        box = self.base.query_one("#trips")
        head = [Text("trips", style=draw.GREY)] if shot.trips else []
        lines = [*head, *(draw.trip_line(trip, width) for trip in shot.trips)]
        (row,) = await self._rows(box, Row, ["trips"])
        row.put(lines)
        box.display = bool(lines)

    async def _draw_drives(self, shot: Snapshot, width: int) -> None:
        box = self.base.query_one("#drives")
        box.display = bool(shot.drives)
        names = [state.drive.name for state in shot.drives]
        rows = await self._rows(box, DriveRow, names, head=True)
        if not rows:
            return
        rows[0].put([draw.drives_head(shot, width)])
        for row, state in zip(rows[1:], shot.drives, strict=True):
            if isinstance(row, DriveRow):
                row.state = state
            row.put([draw.drive_line(state, width, state.drive.name == self.chosen)])

    def _draw_log(self, shot: Snapshot) -> None:
        log = self.base.query_one("#log", RichLog)
        log.display = self.size.height >= TALL if self.log_wanted is None else self.log_wanted
        if log.display and shot.log != self._logged:
            log.clear()
            for line in shot.log:
                log.write(as_shown(line))
            self._logged = shot.log

    async def _rows(
        self, box: object, kind: type[Row], names: list[str], head: bool = False
    ) -> list[Row]:
        """The rows of a box, made again where its names have changed."""
        assert isinstance(box, Vertical | VerticalScroll)
        rows = list(box.query(Row))
        wanted = [*([""] if head and names else []), *names]
        if [row.row_name for row in rows] != wanted:
            await box.remove_children()
            rows = [kind(name) if name else Row(name) for name in wanted]
            await box.mount(*rows)
        return rows

    # What somebody does.

    def post(self, action: Callable[[OperatorControls], object]) -> None:
        """Have the session do something at once; what it says, or refuses, is shown."""

        def work() -> None:
            try:
                answer = action(self.controls)
                message = answer if isinstance(answer, str) else self.session.progress.message
            except JetRulerError as error:
                message = str(error)
            self.call_later(self.say, message)
            self._hear(snapshot(self.controls, self.time_span, columns))

        columns = self._columns
        self.session.post(work)

    def say(self, message: str) -> None:
        """Show a sentence until the next key."""
        self.message = message

    @on(HandRow.Chosen)
    def take_click(self, event: HandRow.Chosen) -> None:
        """A click on a row."""
        self.choose(event.name)

    @on(HandRow.Posted)
    def take_drag(self, event: HandRow.Posted) -> None:
        """What the mouse does to a row."""
        self.post(event.action)

    def choose(self, name: str) -> None:
        """Choose a channel or a drive."""
        self.chosen = name
        for row in self.base.query(Row):
            if row.row_name == name:
                row.scroll_visible(animate=False)

    @property
    def on_drive(self) -> bool:
        """Whether a drive is chosen."""
        return self.shot is not None and self.shot.drive(self.chosen) is not None

    def ask(self, prompt: str, entered: Callable[[str], None]) -> None:
        """Have a line typed."""
        field = self.base.query_one("#prompt", Input)
        self._entered = entered
        field.value, field.placeholder, field.display = "", prompt, True
        field.border_title = prompt
        field.focus()
        self.message = prompt

    @on(Input.Changed, "#prompt")
    def hear_space(self, event: Input.Changed) -> None:
        """A space before anything else is no text: all gates go off, as without a prompt."""
        if event.value.startswith(" "):
            self.stop_asking()
            self.action_all_off()

    @on(Input.Submitted, "#prompt")
    def take_entry(self, event: Input.Submitted) -> None:
        """What was typed."""
        entered, text = self._entered, event.value.strip()
        self.stop_asking()
        if text and entered is not None:
            entered(text)

    def on_key(self, event: events.Key) -> None:
        """Esc gives up what is being typed; any key takes the last message away."""
        if event.key == "escape" and self._entered is not None:
            self.stop_asking()
        elif self._entered is None:
            self.message = ""

    def stop_asking(self) -> None:
        """Take the field away."""
        self._entered, self.message = None, ""
        field = self.base.query_one("#prompt", Input)
        field.display = False
        self.set_focus(None)

    # The actions of the keys.

    def action_all_off(self) -> None:
        self.post(lambda controls: controls.all_off())

    def action_help(self) -> None:
        self.push_screen(Help())

    def action_end(self, code: int = 0) -> None:
        self.stopped = True
        self.exit(code)

    def action_rest(self) -> None:
        """Rest until somebody wakes the program; the drives are safe meanwhile."""
        self.session.ask(self.session.make_safe)
        with contextlib.suppress(SuspendNotSupported), self.suspend():
            rest()
        self.session.post(self.session.wake)

    def action_view(self) -> None:
        self.view = VIEWS[(VIEWS.index(self.view) + 1) % len(VIEWS)]
        self.request()

    def action_log(self) -> None:
        self.log_wanted = not self.base.query_one("#log").display

    def action_choose(self, steps: int) -> None:
        if self.shot is not None:
            names = self.shot.names
            self.choose(names[(names.index(self.chosen) + steps) % len(names)])

    def action_hold(self) -> None:
        self.action_move(0.0)

    def action_move(self, steps: float) -> None:
        name, drive = self.chosen, self.on_drive
        self.post(lambda controls: (controls.nudge_drive if drive else controls.nudge)(name, steps))

    def action_value(self) -> None:
        name, drive = self.chosen, self.on_drive
        self.ask(
            f"{name} = ",
            lambda text: self.post(
                lambda controls: (controls.set if drive else controls.hold)(name, text)
            ),
        )

    def action_release(self) -> None:
        name = self.chosen
        self.post(lambda controls: controls.release(name))

    def action_gate(self) -> None:
        drive = self.shot.drive(self.chosen) if self.shot else None
        if drive is None:
            self.say(f"{self.chosen} is not a drive; choose one with ↑ ↓")
            return
        self.post(lambda controls: controls.gate(drive.drive.name, on=not drive.gate))

    def action_feed(self) -> None:
        name = self.chosen
        if not self.on_drive:
            self.say(f"{name} is not a drive; choose one with ↑ ↓")
            return
        self.ask(
            f"{name} from ", lambda text: self.post(lambda controls: controls.feed(name, text))
        )

    def action_arm(self) -> None:
        shot = self.shot
        if shot is not None and shot.armed:
            self.post(lambda controls: controls.disarm())
        elif shot is None or not shot.wire:
            self.post(lambda controls: controls.arm())  # which says why it cannot be
        else:
            question = Question(f"send commands to {shot.wire}?")
            self.push_screen(question, lambda yes: self.post(lambda d: d.arm()) if yes else None)

    def action_span(self, steps: int) -> None:
        at = SPANS.index(self.time_span) + steps
        self.time_span = SPANS[min(max(at, 0), len(SPANS) - 1)]

    def action_reset_ends(self) -> None:
        self.post(lambda controls: controls.reset_ends())
        self.say("looking for the ends again")

    def action_mark(self) -> None:
        """Mark this moment; what is typed then names it."""
        marked: list[int] = []

        def mark(controls: OperatorControls) -> str:
            marked.append(controls.mark())
            return f"mark {marked[0]}"

        self.post(mark)
        self.ask(
            "mark: ",
            lambda text: self.post(lambda controls: controls.name_mark(marked[0], text)),
        )

    def action_mode(self) -> None:
        """Choose a mode of a drive."""
        name = self.chosen
        if not self.on_drive:
            self.say(f"{name} is not a drive; choose one with ↑ ↓")
            return
        self.ask(
            f"{name} mode (- gives it back) ",
            lambda text: self.post(
                lambda controls: controls.mode(name, None if text == "-" else text)
            ),
        )

    def action_say(self) -> None:
        """Send a line of the bench by its name."""
        self.ask("send ", lambda text: self.post(lambda controls: controls.say(text)))

    def action_ends(self) -> None:
        """Propose the marks that the travel shows; y writes just these into the bench file."""
        name, shot = self.chosen, self.shot
        if self.on_drive or shot is None:
            self.say(f"{name} has no travel; choose a channel with ↑ ↓")
            return

        def found(controls: OperatorControls) -> str:
            ends, low, high = controls.ends_seen(name)
            line = ends.line(low, high)
            if shot.bench_path is None:
                return line

            def write(yes: bool | None) -> None:
                if yes:
                    self.post(
                        lambda controls: f"written: {controls.write_marks(name, ends, low, high)}"
                    )

            question = Question(f"{name}: {line}; into the bench file?")
            self.call_later(self.push_screen, question, write)
            return ""

        self.post(found)

    # The end.

    def finish(self) -> None:
        """Stop the session; raise what ended it, if that was a mistake."""
        self.runner.stop()
        if self.runner.error is not None:
            raise self.runner.error


def run(session: Session, lasting: float | None) -> tuple[int, bool]:
    """Show a session until it ends; the exit code, and whether somebody wanted no more."""
    app, stderr = LiveApp(session, lasting), sys.__stderr__
    # Textual draws there, and standard error may be a file.
    sys.__stderr__ = ClosableTerminal(sys.__stdout__)  # type: ignore[assignment, misc]
    try:
        code = app.run(mouse=True)
    finally:
        sys.__stderr__ = stderr  # type: ignore[misc]
        app.runner.stop()
    app.finish()
    return code or app.return_code or 0, app.stopped
