"""Threads that read ahead, and that work on several blocks at once; results stay in order."""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Generic, TypeVar

from ..system import cores

Item = TypeVar("Item")
Made = TypeVar("Made")

#: How many items wait at most between a thread that reads and the one that takes them.
DEPTH = 2

#: Threads, where nobody says how many.
MOST = 8


#: Seconds until whoever waits looks whether a signal has come.
HEARING = 0.2


class Workers:
    """Some threads that work on the items of a series, a few of them at once.

    threads: a thread a core if None, but no more than `MOST`, which keep any disk busy; 1 works
    on each item when it is asked for, without threads. busy: whoever takes what they make keeps a
    core for itself, as the Parquet writer does; they are one less then.
    A context manager. NumPy and PyArrow let other threads run while they compute.
    """

    def __init__(self, threads: int | None = None, busy: bool = False) -> None:
        self.threads = max(1, threads or min(MOST, cores()))
        at_once = max(1, self.threads - busy)
        self._pool = ThreadPoolExecutor(at_once, "jetruler") if self.threads > 1 else None

    def __enter__(self) -> Workers:
        return self

    def __exit__(self, *error: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)

    def in_order(self, items: Iterable[Item], work: Callable[[Item], Made]) -> Iterator[Made]:
        """What `work` makes of each item, in the items' order. Its errors are raised here."""
        if self._pool is None:
            yield from map(work, items)
            return
        waiting: deque[Future[Made]] = deque()
        try:
            for item in items:
                waiting.append(self._pool.submit(work, item))
                if len(waiting) > self.threads:
                    yield waiting.popleft().result()
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()

    def pipeline(
        self, work: Callable[[Item], Made], take: Callable[[Made], object]
    ) -> Pipeline[Item, Made]:
        """What works on items as they are handed in, and hands on what it makes in their order."""
        return Pipeline(self.threads, self._pool, work, take)

    def ahead(self, items: Iterable[Item]) -> Iterator[Item]:
        """The same items, each made while the one before is worked on."""
        return iter(items) if self._pool is None else ahead(items)


class Pipeline(Generic[Item, Made]):
    """Items are worked on by several threads; what becomes of them is taken in order."""

    def __init__(
        self,
        threads: int,
        pool: ThreadPoolExecutor | None,
        work: Callable[[Item], Made],
        take: Callable[[Made], object],
    ) -> None:
        self._threads, self._pool, self._work, self._take_made = threads, pool, work, take
        self._waiting: deque[Future[Made]] = deque()

    def add(self, item: Item) -> None:
        """Work on an item. Errors of earlier ones are raised here."""
        if self._pool is None:
            self._take_made(self._work(item))
            return
        self._waiting.append(self._pool.submit(self._work, item))
        if len(self._waiting) > self._threads:
            self._take_made(self._waiting.popleft().result())

    def finish(self) -> None:
        """Wait for what is under way."""
        while self._waiting:
            self._take_made(self._waiting.popleft().result())

    def close(self) -> None:
        """Give up what is under way."""
        for future in self._waiting:
            future.cancel()


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
            try:
                item, error, done = waiting.get(timeout=HEARING)
            except queue.Empty:
                continue
            if error is not None:
                raise error
            if done:
                return
            yield item  # type: ignore[misc]
    finally:
        stopped.set()
        thread.join(timeout=1.0)
