"""Some processes that convert one log after another."""

from __future__ import annotations

import contextlib
import multiprocessing
import signal
import sys
from collections import deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess
from types import FrameType

from .attempt import Outcome, Work, attempt, sweep
from .plan import Task

#: A log at which so many workers died is not tried again.
MOST_DEATHS = 2


@dataclass(eq=False)
class _Worker:
    """A process, the pipe to it, and the task it is at."""

    process: SpawnProcess
    pipe: Connection
    task: Task | None = None


class Jobs:
    """Converts tasks in some processes at once. A context manager that ends them.

    A worker that dies (out of memory, say) is replaced, and its log is tried once more.
    """

    def __init__(self, jobs: int, work: Work) -> None:
        self.jobs, self.work = jobs, work
        # Not forked: PyArrow's threads would not come along, though their locks do.
        self._processes = multiprocessing.get_context("spawn")
        self._workers: list[_Worker] = []

    def __enter__(self) -> Jobs:
        return self

    def __exit__(self, *error: object) -> None:
        for worker in self._workers:
            worker.pipe.close()
            if worker.task is not None:
                worker.process.terminate()
        for worker in self._workers:
            worker.process.join(timeout=10)
            if worker.process.is_alive():
                worker.process.kill()
                worker.process.join()
            if worker.task is not None:
                sweep(worker.task)

    def outcomes(self, tasks: Sequence[Task]) -> Iterator[Outcome]:
        """What came of each task, as each is done."""
        waiting = deque(tasks)
        deaths: dict[Task, int] = {}
        for _ in range(min(self.jobs, len(tasks))):
            self._workers.append(self._started())
        while waiting or any(worker.task for worker in self._workers):
            for worker in self._workers:
                if worker.task is None and waiting:
                    worker.task = waiting.popleft()
                    with contextlib.suppress(OSError):  # it has died: found out below
                        worker.pipe.send(worker.task)
            busy = {worker.pipe: worker for worker in self._workers if worker.task}
            for pipe in wait(list(busy)):
                worker = busy[pipe]  # type: ignore[index]
                task, worker.task = worker.task, None
                assert task is not None
                try:
                    yield worker.pipe.recv()
                except (EOFError, OSError):
                    sweep(task)
                    deaths[task] = deaths.get(task, 0) + 1
                    why = self._buried(worker)
                    if deaths[task] < MOST_DEATHS:
                        waiting.append(task)
                    else:
                        error = f"{task.log}: the worker at this log died, twice ({why})"
                        yield Outcome(task, error=error)

    def _started(self) -> _Worker:
        here, there = self._processes.Pipe()
        process = self._processes.Process(target=_serve, args=(there, self.work), daemon=True)
        process.start()
        there.close()
        return _Worker(process, here)

    def _buried(self, worker: _Worker) -> str:
        """Replace a worker that died; how it died."""
        worker.pipe.close()
        worker.process.join()
        code = worker.process.exitcode or 0
        self._workers[self._workers.index(worker)] = self._started()
        if code < 0:
            return f"signal {signal.Signals(-code).name}"
        return f"exit code {code}"


def _serve(pipe: Connection, work: Work) -> None:
    """A worker's life: tasks in, outcomes out, until the pipe closes."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C is for whoever started it
    signal.signal(signal.SIGTERM, _end)  # so that nothing half-written is left
    while True:
        try:
            task = pipe.recv()
        except (EOFError, OSError):
            return
        with contextlib.suppress(BrokenPipeError):
            pipe.send(attempt(task, work))


def _end(number: int, frame: FrameType | None) -> None:
    sys.exit(128 + number)
