"""A bench file that was saved again, read and built beside the loop, which never waits for it."""

from __future__ import annotations

import threading
import time

from ..benchfile.load import load_bench
from ..core.error_types import JetRulerError
from ..core.model.channel import Bench

#: Seconds that reading a bench may take; what takes longer is left alone.
PATIENCE = 5.0


class Rereading:
    """One attempt. `ready` tells when there is a bench, or a reason why there is none."""

    def __init__(self, path: str) -> None:
        self.bench: Bench | None = None
        self.why = ""
        self._path = path
        self._until = time.monotonic() + PATIENCE
        self._done = threading.Event()
        threading.Thread(target=self._work, name="jetruler-bench", daemon=True).start()

    def ready(self) -> bool:
        """Whether it is decided."""
        if self._done.is_set():
            return True
        if time.monotonic() > self._until:
            self.bench, self.why = None, f"reading it takes longer than {PATIENCE:g} s"
            return True
        return False

    def _work(self) -> None:
        try:
            bench = load_bench(self._path)
            for channel in bench.channels.values():
                channel.ruler.compiled()  # the tables that the loop would otherwise wait for
            self.bench = bench
        except JetRulerError as error:
            self.why = str(error)
        except Exception as error:  # whatever is wrong with it, the last good one stays
            self.why = f"it cannot be used: {type(error).__name__}: {error}"
        self._done.set()
