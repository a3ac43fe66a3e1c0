"""Commands to an actuator's wire: only when armed, only when they change, and safe at the end."""

from __future__ import annotations

import time
from collections.abc import Mapping

from ..core.model.channel import Bench
from ..core.model.log_format import LINE_ENDS, LineEnd
from .sources import Source

#: Seconds without trying again after a wire took nothing.
REST = 1.0
#: Seconds between attempts to send what must be sent.
RETRY = 0.1


class Sender:
    """Sends the lines of commands. Unless armed nothing is sent, whatever is asked.

    wire: where to; None where nothing takes commands, and nothing can be armed."""

    def __init__(
        self, bench: Bench, wire: Source | None, armed: bool = False, line_end: LineEnd = "lf"
    ) -> None:
        self.bench, self.wire = bench, wire
        self.armed = armed and wire is not None
        """Whether anything is sent at all."""
        self._end = LINE_ENDS[line_end]
        self._drives = {drive.output: drive for drive in bench.drives.values()}
        self.sent: dict[str, float] = {}
        """What each output has taken last."""
        self.failure = ""
        self.unsent = 0
        self._wanted: dict[str, float] = {}
        self._rest_until = 0.0
        self._torn = False

    def arm(self) -> None:
        """Send from now on, the safe values first."""
        self.armed = self.wire is not None
        self.safe()

    def disarm(self, seconds: float = 0.0) -> None:
        """Send the safe values, tried for so many seconds, and nothing from then on."""
        self.safe()
        self.insist(seconds)
        self.armed, self.failure = False, ""

    def change(self, bench: Bench) -> None:
        """Go on with a bench that was changed; an output that is no longer driven goes to safe."""
        gone = {d.output: d.safe for d in self.bench.drives.values()}
        for drive in bench.drives.values():
            gone.pop(drive.output, None)
        self._send(gone)
        for output in gone:
            self._wanted.pop(output)
        self.bench = bench
        self._drives = {drive.output: drive for drive in bench.drives.values()}

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

    def _line(self, output: str, command: float) -> str:
        drive = self._drives.get(output)
        text = f"{output}={command:.10g}" if drive is None else drive.line(command)
        return text + self._end

    def _send(self, commands: Mapping[str, float]) -> None:
        self._wanted.update(commands)
        new = {out: value for out, value in self._wanted.items() if self.sent.get(out) != value}
        if self.wire is None or not self.armed or not new or time.monotonic() < self._rest_until:
            return
        lines = "".join(self._line(out, value) for out, value in new.items())
        if self._torn:  # what was cut off before must not join with what comes now
            lines = self._end + lines
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
