"""Many logs on a Dask cluster: a scheduler somewhere, or workers on this machine."""

from __future__ import annotations

import socket
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from typing import Any
from urllib.parse import urlsplit

from ..samples.source import LogError
from .attempt import Outcome, Work, attempt, sweep
from .plan import Task

#: Seconds until an address that does not answer is given up.
PATIENCE = 8

#: Bytes.
LONGEST_GREETING = 2**20


class Cluster:
    """A client of a scheduler. A context manager.

    address: "tcp://host:port", or "local" for `workers` processes on this machine. Raises
    `LogError` where nobody answers within `PATIENCE` seconds, or Dask is not installed.
    """

    def __init__(self, address: str, workers: int) -> None:
        self.address = address
        try:
            import distributed
        except ImportError:
            raise LogError(
                "a cluster needs Dask, which is not installed: pip install 'jet-ruler[dask]'"
            ) from None
        self._distributed: Any = distributed
        self._stack = ExitStack()
        self._client = self._local(workers) if address == "local" else self._remote()

    def _local(self, workers: int) -> Any:
        local = self._stack.enter_context(
            self._distributed.LocalCluster(
                n_workers=workers,
                threads_per_worker=1,
                processes=True,
                dashboard_address="127.0.0.1:0",
            )
        )
        return self._stack.enter_context(self._distributed.Client(local))

    def _remote(self) -> Any:
        place = urlsplit(self.address)
        try:
            host, port = place.hostname, place.port
        except ValueError:
            host, port = None, None
        if place.scheme not in ("tcp", "tls") or not host or not port:
            raise LogError(f"cluster: found {self.address!r}; tcp://host:port or local is right")
        try:
            _answers(host, port, greets=place.scheme == "tcp")
            client = self._distributed.Client(self.address, timeout=PATIENCE / 2)
        except Exception as error:  # what is no scheduler may answer anything
            why = getattr(error, "strerror", None) or "what is there does not speak Dask"
            raise LogError(f"cluster: no scheduler answers at {self.address}: {why}") from None
        self._stack.enter_context(client)
        if not client.scheduler_info(n_workers=-1)["workers"]:
            self._stack.close()
            raise LogError(f"cluster: the scheduler at {self.address} has no workers; start some")
        return client

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, *error: object) -> None:
        self._stack.close()

    def outcomes(self, tasks: Sequence[Task], work: Work) -> Iterator[Outcome]:
        """What came of each task, as each is done. A worker that dies is replaced by another."""
        futures = {self._client.submit(attempt, task, work, pure=False): task for task in tasks}
        for future in self._distributed.as_completed(futures):
            task = futures[future]
            try:
                yield future.result()
            except Exception as error:
                sweep(task)
                yield Outcome(task, error=f"{task.log}: {self._why(error)}")
        for task in tasks:
            sweep(task)

    def _why(self, error: Exception) -> str:
        if isinstance(error, self._distributed.KilledWorker):
            return "the workers at this log died, again and again"
        told = str(error).splitlines() or [type(error).__name__]
        return f"the cluster could not convert it: {told[0]}"


def _answers(host: str, port: int, greets: bool) -> None:
    """Raise `OSError` where no scheduler answers: Dask itself would wait for a minute for one that
    is silent. A scheduler greets whoever connects, with a short message behind its length."""
    with socket.create_connection((host, port), timeout=PATIENCE / 2) as there:
        if greets and not 0 < int.from_bytes(there.recv(8), "little") < LONGEST_GREETING:
            raise OSError(None, "what is there does not speak Dask")
