"""Keys of the live view: what is chosen, asked and shown, as plain state; each key is one call of
the desk."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ..core.error_types import JetRulerError
from ..system.terminal import ENDED

if TYPE_CHECKING:
    from ..live.desk import Desk

#: What the view can show, in the order in which `t` goes through them.
VIEWS = ("rulers", "traces", "one trace")
#: Seconds that a trace can show.
SPANS = (5.0, 10.0, 30.0, 60.0, 120.0, 300.0, 600.0)
#: Steps of one raw value for the keys that move what is held.
FINE, COARSE = 1.0, 20.0

#: Every key: how the help writes it, the signs that it sends, and what it does.
KEYS: tuple[tuple[str, tuple[str, ...], str], ...] = (
    ("space", (" ",), "all gates off, at once"),
    ("↑ ↓", ("up", "down"), "choose a channel or a drive"),
    ("h", ("h",), "hold what is chosen where it is"),
    ("=", ("=", "\r", "\n"), "type a value for it: 1880, or 21.5degC"),
    ("← →", ("left", "right"), "move it, by one step"),
    ("< >", ("<", ">", ",", "."), "move it, by twenty"),
    ("u", ("u",), "release it"),
    ("f", ("f",), "feed a drive from another channel"),
    ("g", ("g",), "a drive's gate off, or on"),
    ("a", ("a",), "arm, or disarm"),
    ("t", ("t",), "rulers, traces, one trace"),
    ("+ -", ("+", "-"), "a longer or shorter time"),
    ("r", ("r",), "look for the ends anew"),
    ("e", ("e",), "the ends become marks"),
    ("m", ("m",), "mark this moment"),
    ("?", ("?",), "these keys"),
    ("q", ("q", ENDED), "end; drives are sent safe"),
)
_ESCAPE, _BACK = "\x1b", ("\x7f", "\x08")


@dataclass
class Controls:
    """What somebody at the keyboard has chosen. `press` takes a key."""

    desk: Desk
    chosen: str = ""
    view: str = VIEWS[0]
    span: float = 60.0
    helps: bool = False
    entry: str | None = None
    """What is being typed."""
    prompt: str = ""
    """What it is asked for."""
    message: str = ""
    _entered: Callable[[str], object] | None = field(default=None, repr=False)

    @property
    def names(self) -> list[str]:
        """What can be chosen."""
        bench = self.desk.session.bench
        return [*bench.channels, *(name for name in bench.drives if name not in bench.channels)]

    @property
    def on_drive(self) -> bool:
        """Whether a drive is chosen."""
        return self.chosen in self.desk.session.bench.drives

    def press(self, key: str) -> None:
        """A key. Raises `KeyboardInterrupt` for the one that ends the view."""
        if self.chosen not in self.names:
            self.chosen = self.names[0]
        self.message = ""
        try:
            if key == " ":  # always possible, and always first
                self._stop_asking()
                self.desk.all_off()
            elif self.entry is not None:
                self._type(key)
            else:
                self._act(key)
        except JetRulerError as error:
            self.message = str(error)

    def _stop_asking(self) -> None:
        self.entry, self.prompt, self._entered = None, "", None

    def _ask(self, prompt: str, entered: Callable[[str], object]) -> None:
        self.entry, self.prompt, self._entered = "", prompt, entered

    def _type(self, key: str) -> None:
        """One sign of what is asked for; a question for y or n needs no Enter."""
        entered = self._entered
        assert self.entry is not None
        assert entered is not None
        if key == ENDED:
            raise KeyboardInterrupt
        if self.prompt.endswith("(y/n) "):
            self._stop_asking()
            if key in ("y", "Y"):
                entered(key)
        elif key in ("\r", "\n"):
            text = self.entry.strip()
            self._stop_asking()
            if text:
                entered(text)
        elif key == _ESCAPE:
            self._stop_asking()
        elif key in _BACK:
            self.entry = self.entry[:-1]
        elif len(key) == 1 and key.isprintable():
            self.entry += key

    def _act(self, key: str) -> None:
        desk, chosen = self.desk, self.chosen
        if key in ("q", ENDED):
            raise KeyboardInterrupt
        if key in ("up", "down"):
            at = self.names.index(chosen) + (1 if key == "down" else -1)
            self.chosen = self.names[at % len(self.names)]
        elif key in ("left", "right", "<", ">", ",", "."):
            steps = COARSE if key in "<>,." else FINE
            self._move(steps if key in ("right", ">", ".") else -steps)
        elif key == "h":
            self._move(0.0)
        elif key in ("=", "\r", "\n"):
            take = desk.set if self.on_drive else desk.hold
            self._ask(f"{chosen} = ", lambda text: take(chosen, text))
        elif key == "u":
            desk.release(chosen)
        elif key == "t":
            self.view = VIEWS[(VIEWS.index(self.view) + 1) % len(VIEWS)]
        elif key in ("+", "-"):
            at = SPANS.index(self.span) + (1 if key == "+" else -1)
            self.span = SPANS[min(max(at, 0), len(SPANS) - 1)]
        elif key == "r":
            desk.reset_ends()
            self.message = "the ends are looked for anew"
        elif key == "m":
            self.message = f"mark {desk.mark()}"
        elif key == "?":
            self.helps = not self.helps
        elif key == "a":
            self._arm()
        elif key in ("f", "g"):
            self._drive(key)
        elif key == "e":
            self._ends()

    def _move(self, steps: float) -> None:
        (self.desk.nudge_drive if self.on_drive else self.desk.nudge)(self.chosen, steps)

    def _arm(self) -> None:
        desk = self.desk
        if desk.session.sender.armed:
            desk.disarm()
        elif desk.session.sender.wire is None:
            desk.arm()  # which says why it cannot be
        else:
            to = desk.session.sender.wire.name
            self._ask(f"send commands to {to}? (y/n) ", lambda _: desk.arm())

    def _drive(self, key: str) -> None:
        """A key that means a drive."""
        desk, chosen = self.desk, self.chosen
        if not self.on_drive:
            self.message = f"{chosen} is no drive; choose one with ↑ ↓"
        elif key == "g":
            desk.gate(chosen, on=chosen in desk.session.hands.gates_off)
        else:
            self._ask(f"{chosen} from ", lambda text: desk.feed(chosen, text))

    def _ends(self) -> None:
        """Propose the marks that the travel shows; y writes them into the bench file."""
        desk, chosen = self.desk, self.chosen
        if self.on_drive:
            self.message = f"{chosen} has no travel; choose a channel with ↑ ↓"
            return
        found, low, high = desk.ends(chosen)

        def write(_: str) -> None:
            self.message = f"written: {desk.write_ends(chosen)}"

        line = found.line(low, high)
        if desk.session.parts.bench_path is None:
            self.message = line
        else:
            self._ask(f"{chosen}: {line}; into the bench file? (y/n) ", write)
