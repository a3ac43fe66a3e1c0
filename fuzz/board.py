"""A board in this process that does what it is told, step by step."""

from __future__ import annotations

import time

from jetruler.live.session import Session
from jetruler.live.sources import Base, SourceCut, SourceEnded, SourceGone

from .mutations import EVENTS


class ScriptedBoard(Base):
    """Lines, seams and accidents, a step a read; then it ends."""

    BENCH = """
[channel.knob]
column = "k"
converter = { bits = 12, vref = 3.3 }
laws = [{ law = "line", marks = [[0, 0], [4000, 100]], unit = "%" }]
[log]
columns = ["t", "k", "p"]
stale = 0.5
[drive.flap]
from = "knob"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
clamp = [1100, 1900]
safe = 1500
slew = 2000
"""

    name = "board"
    session: Session

    def __init__(self, steps: list[str]) -> None:
        self._steps = list(steps)
        self.got: list[str] = []
        self.broken = False

    def open(self) -> None:
        """Always there."""

    def read(self) -> bytes:
        """The next step."""
        if not self._steps:
            raise SourceEnded
        step = self._steps.pop(0)
        if step not in EVENTS:
            return step.encode()
        if step == "gone":
            raise SourceGone("pulled out")
        if step == "cut":
            raise SourceCut
        self._accident(step)
        return b""

    def _accident(self, step: str) -> None:
        session = self.session
        if step == "lost":
            session.reader._losing = True
        elif step == "late":
            session.post(lambda: time.sleep(0.02))
        elif step == "bench":
            session.post(lambda: session.processor.take_over(session.bench))
        elif step in ("broken", "mended"):
            self.broken = step == "broken"
        elif step == "hold":
            session.post(lambda: session.sender.send({"flap": 1500.0}))
        elif step == "disarm":
            session.post(session.sender.safe)
        else:
            time.sleep(0.03)

    def write(self, data: bytes) -> None:
        """Keep what is sent."""
        if self.broken:
            raise OSError("nobody hears")
        self.got += data.decode().split()
