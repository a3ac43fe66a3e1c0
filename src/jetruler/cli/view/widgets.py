"""What the live view is made of: its keys, its rows that the mouse can work, its overlays."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

from rich.text import Text
from textual import events
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Vertical, VerticalScroll
from textual.message import Message
from textual.screen import ModalScreen
from textual.widgets import RichLog, Static

from ...live.controls import ChannelState, DriveState, OperatorControls
from ..streams import as_shown
from . import pictures as draw

#: Steps of one raw value for the keys that move what is held.
FINE, COARSE = 1.0, 20.0


@dataclass(frozen=True)
class Key:
    """A key: as Textual calls it, what the view does, and how help and footer write them. short:
    its word in the footer, where it is there. always: also while something is typed."""

    keys: str
    action: str
    shown: str
    means: str
    short: str = ""
    always: bool = False


#: Every key; the bindings, the footer and the help are made of it.
KEYS: tuple[Key, ...] = (
    Key(
        "ctrl+o",
        "all_off",
        "Ctrl-O",
        "all gates off at once, also while typing",
        "all off",
        always=True,
    ),
    Key("space", "all_off", "space", "the same, unless something is typed"),
    Key("question_mark", "help", "?", "these keys", "keys"),
    Key("q,ctrl+d", "end", "q", "end; drives are sent safe", "end"),
    Key("ctrl+c", "end", "Ctrl-C", "the same, also while typing", always=True),
    Key("ctrl+z", "rest", "Ctrl-Z", "rest, with the drives safe", always=True),
    Key("t", "view", "t", "rulers, traces, one trace", "trace"),
    Key("h", "hold", "h", "hold what is chosen where it is", "hold"),
    Key("equals_sign,enter", "value", "=", "type a value for it: 1880, or 21.5 degC", "value"),
    Key("u", "release", "u", "release it", "release"),
    Key("g", "gate", "g", "a drive's gate off, or on", "gate"),
    Key("a", "arm", "a", "arm, or disarm", "arm"),
    Key("up", "choose(-1)", "↑ ↓", "choose a channel or a drive; or click it"),
    Key("down", "choose(1)", "", ""),
    Key("left", f"move({-FINE})", "← →", "move it by one step; or drag what is held"),
    Key("right", f"move({FINE})", "", ""),
    Key("less_than_sign,comma", f"move({-COARSE})", "< >", "move it by twenty"),
    Key("greater_than_sign,full_stop", f"move({COARSE})", "", ""),
    Key("f", "feed", "f", "feed a drive from another channel"),
    Key("plus", "span(1)", "+ -", "a longer or shorter time"),
    Key("minus", "span(-1)", "", ""),
    Key("r", "reset_ends", "r", "look for the ends again"),
    Key("e", "ends", "e", "the ends become marks"),
    Key("m", "mark", "m", "mark this moment, and name it"),
    Key("o", "mode", "o", "choose a drive's mode"),
    Key("s", "say", "s", "send one of the bench's lines by its name"),
    Key("l", "log", "l", "what has happened"),
)


class Help(ModalScreen[None]):
    """Every key, over the view; it scrolls where it does not fit."""

    AUTO_FOCUS = "#help"

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("escape,question_mark,q,enter,space", "dismiss", "back")
    ]

    def compose(self) -> ComposeResult:
        wide = max(len(key.shown) for key in KEYS)
        rows = [f"{key.shown:>{wide}}  {key.means}" for key in KEYS if key.shown]
        yield VerticalScroll(
            Static(Text(as_shown("\n".join(rows)))), Static(Text("\nEsc goes back")), id="help"
        )


class Question(ModalScreen[bool]):
    """A question for y or n."""

    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("y", "dismiss(True)", "yes"),
        Binding("n,escape", "dismiss(False)", "no"),
    ]

    def __init__(self, text: str) -> None:
        super().__init__()
        self.text = text

    def compose(self) -> ComposeResult:
        yield Vertical(
            Static(Text(f"{self.text}\n")),
            Static("[@click=screen.dismiss(True)]y yes[/]   [@click=screen.dismiss(False)]n no[/]"),
            id="question",
        )


class Words(Static):
    """Some lines; a change of their words costs no new layout."""

    def __init__(self, **given: Any) -> None:
        super().__init__("", **given)
        self.shown = Text()

    def show(self, text: Text) -> None:
        """Show a text, if it is another one."""
        if text != self.shown:
            grown = text.plain.count("\n") != self.shown.plain.count("\n")
            self.shown = text
            self.update(text, layout=grown)


class EventLog(RichLog, can_focus=False):
    """The log of what has happened; keys are the view's."""


class Row(Static):
    """Some lines of the view that belong to one thing."""

    def __init__(self, name: str) -> None:
        super().__init__("")
        self.row_name = name
        self.lines: list[Text] = []

    def put(self, lines: list[Text]) -> None:
        """Show these lines."""
        if lines != self.lines:
            if len(lines) != len(self.lines):
                self.styles.height = len(lines)
            self.lines = lines
            self.update(Text("\n", no_wrap=True, overflow="crop").join(lines), layout=False)


class HandRow(Row):
    """A channel or a drive; a click chooses it, and the mouse drags what is held."""

    class Chosen(Message):
        """Somebody has clicked it."""

        def __init__(self, name: str) -> None:
            super().__init__()
            self.name = name

    class Posted(Message):
        """Something is to be done."""

        def __init__(self, action: Callable[[OperatorControls], object]) -> None:
            super().__init__()
            self.action = action

    _dragged = False

    def on_mouse_down(self, event: events.MouseDown) -> None:
        """Choose it; begin to drag what is held."""
        self.post_message(self.Chosen(self.row_name))
        if self.pressed(event.x):
            self._dragged = True
            self.capture_mouse()

    def on_mouse_move(self, event: events.MouseMove) -> None:
        """Drag."""
        if self._dragged:
            self.dragged(event.x)

    def on_mouse_up(self, event: events.MouseUp) -> None:
        """Let go."""
        if self._dragged:
            self._dragged = False
            self.release_mouse()

    def pressed(self, cell: int) -> bool:
        """What a press does; whether it begins a drag."""
        raise NotImplementedError

    def dragged(self, cell: int) -> None:
        """Move what is held to a cell."""
        raise NotImplementedError


class ChannelRow(HandRow):
    """A channel; its ruler is a slider while it is held. state: None while it shows no ruler."""

    state: ChannelState | None = None

    def pressed(self, cell: int) -> bool:
        before, room = draw.ruler_room(self.size.width)
        inside = room >= 8 and before <= cell < before + room
        return self.state is not None and bool(self.state.held) and inside

    def dragged(self, cell: int) -> None:
        if self.state is None:
            return
        raw, edge = draw.raw_at(self.state, cell, self.size.width), self.state.channel.ruler.edge
        step = edge.lsb if edge is not None and edge.lsb else 0.0
        value = round(raw / step) * step if step else raw
        self.post_message(self.Posted(lambda controls: controls.hold(self.row_name, value)))


class DriveRow(HandRow):
    """A drive; its gate is clicked, and its bar is a slider while it is set by hand."""

    state: DriveState | None = None

    def pressed(self, cell: int) -> bool:
        state = self.state
        if state is None:
            return False
        if cell in draw.gate_at(self.size.width):
            self.post_message(self.Posted(lambda d: d.gate(self.row_name, on=not state.gate)))
            return False
        by_hand = state.by_hand is not None
        return by_hand and draw.command_at(state.drive, cell, self.size.width) is not None

    def dragged(self, cell: int) -> None:
        if self.state is None:
            return
        value = draw.command_at(self.state.drive, cell, self.size.width)
        if value is not None:
            self.post_message(self.Posted(lambda controls: controls.set(self.row_name, value)))


class ClosableTerminal:
    """A terminal that may be closed at any moment: what is drawn then goes nowhere. Otherwise the
    thread that draws would end, and whoever hands it more would wait for ever."""

    def __init__(self, file: Any) -> None:
        self._file = file

    def __getattr__(self, name: str) -> Any:
        return getattr(self._file, name)

    def write(self, text: str) -> int:
        """Draw, if somebody can see it."""
        with contextlib.suppress(OSError, ValueError):
            self._file.write(text)
        return len(text)

    def flush(self) -> None:
        """Hand on what is drawn."""
        with contextlib.suppress(OSError, ValueError):
            self._file.flush()
