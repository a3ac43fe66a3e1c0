"""A session in a thread of its own: whoever shows it, or has hands on it, never holds it up."""

from __future__ import annotations

import threading
from collections.abc import Callable

from .session import Session
from .station import LiveBatch

#: Seconds that a session is given to send its safe values.
PATIENCE = 10.0


class Runner:
    """Runs a session until it ends, or is stopped.

    taken: is called with every batch, in the session's thread. ended: is called once when the
    session is over, in that thread too.
    """

    def __init__(
        self,
        session: Session,
        taken: Callable[[LiveBatch], None] | None = None,
        ended: Callable[[], None] | None = None,
        lasting: float | None = None,
    ) -> None:
        self.session = session
        self.error: BaseException | None = None
        """What ended it, if that was a mistake."""
        self._taken, self._ended, self._lasting = taken, ended, lasting
        self._thread = threading.Thread(target=self._work, name="jetruler-live", daemon=True)

    @property
    def started(self) -> bool:
        """Whether it was started."""
        return self._thread.ident is not None

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def stop(self) -> None:
        """End the stream: every drive is sent its safe value."""
        if self._thread.is_alive():
            self.session.progress.ended = True
            self.session.feed.wake()
            self._thread.join(timeout=PATIENCE)

    def _work(self) -> None:
        try:
            for batch in self.session.batches(self._lasting):
                if self._taken is not None:
                    self._taken(batch)
        except BaseException as error:  # to be raised where it is waited for
            self.error = error
        if self._ended is not None:
            self._ended()
