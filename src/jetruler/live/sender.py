"""Commands to an actuator's wire: only when armed, only when they change, and safe at the end."""

from __future__ import annotations

import time
from collections.abc import Mapping

from ..core.decide.drives import command_text
from ..core.model.channel import Bench
from .sources import Source

#: Seconds without trying again after a wire took nothing.
REST = 1.0
#: Seconds between attempts to send what must be sent.
RETRY = 0.1


class Sender:
    """Sends `output=command` lines. Without a wire nothing is sent, whatever is asked."""

    def __init__(self, bench: Bench, wire: Source | None) -> None:
        self.bench, self.wire = bench, wire
        self.sent: dict[str, float] = {}
        """What each output has taken last."""
        self.failure = ""
        self.unsent = 0
        self._wanted: dict[str, float] = {}
        self._rest_until = 0.0
        self._torn = False

    @property
    def armed(self) -> bool:
        """Whether anything is sent at all."""
        return self.wire is not None

    def change(self, bench: Bench) -> None:
        """Go on with a bench that was changed; an output that is no longer driven goes to safe."""
        gone = {d.output: d.safe for d in self.bench.drives.values()}
        for drive in bench.drives.values():
            gone.pop(drive.output, None)
        self._send(gone)
        for output in gone:
            self._wanted.pop(output)
        self.bench = bench

    def send(self, commands: Mapping[str, float]) -> None:
        """Send what changed. commands: by drive."""
        self._send({self.bench.drives[name].output: value for name, value in commands.items()})

    def forget(self) -> None:
        """The other side is new: it has taken nothing yet."""
        self.sent, self._rest_until = {}, 0.0

    def safe(self) -> None:
        """The safe value of every drive, whatever was sent before."""
        self.forget()
        self._send({drive.output: drive.safe for drive in self.bench.drives.values()})

    def insist(self, seconds: float) -> None:
        """Try for so long what could not be sent, until it is taken whole."""
        until = time.monotonic() + seconds
        while self.failure and time.monotonic() < until:
            time.sleep(min(RETRY, seconds))
            self._rest_until = 0.0
            self._send({})

    def try_again(self) -> None:
        """Send what could not be sent before."""
        if self.failure:
            self._send({})

    def _send(self, commands: Mapping[str, float]) -> None:
        self._wanted.update(commands)
        new = {out: value for out, value in self._wanted.items() if self.sent.get(out) != value}
        if self.wire is None or not new or time.monotonic() < self._rest_until:
            return
        lines = "".join(f"{out}={command_text(value)}\n" for out, value in new.items())
        if self._torn:  # what was cut off before must not join with what comes now
            lines = "\n" + lines
        try:
            self.wire.write(lines.encode())
        except OSError as error:
            self.unsent += len(new)
            self.failure = error.strerror or str(error)
            self._rest_until = time.monotonic() + REST
            self._torn = True
            return
        self.sent.update(new)
        self.failure, self._torn = "", False
