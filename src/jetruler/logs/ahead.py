"""Reading ahead in a thread: the next batch is read while this one is worked on."""

from __future__ import annotations

import queue
import threading
from collections.abc import Iterable, Iterator
from typing import TypeVar

Item = TypeVar("Item")

#: How many items wait at most; each is some megabytes.
DEPTH = 2


def ahead(items: Iterable[Item]) -> Iterator[Item]:
    """The same items in the same order, made in a thread. Its errors are raised here; if the
    reader of this iterator stops early, so does the thread."""
    waiting: queue.Queue[tuple[Item | None, BaseException | None, bool]] = queue.Queue(DEPTH)
    stopped = threading.Event()

    def put(entry: tuple[Item | None, BaseException | None, bool]) -> None:
        while not stopped.is_set():
            try:
                return waiting.put(entry, timeout=0.1)
            except queue.Full:
                continue

    def work() -> None:
        try:
            for item in items:
                put((item, None, False))
                if stopped.is_set():
                    return
            put((None, None, True))
        except BaseException as error:  # to be raised where it is waited for
            put((None, error, True))

    thread = threading.Thread(target=work, name="jetruler-reader", daemon=True)
    thread.start()
    try:
        while True:
            item, error, done = waiting.get()
            if error is not None:
                raise error
            if done:
                return
            yield item  # type: ignore[misc]
    finally:
        stopped.set()
        thread.join(timeout=1.0)
