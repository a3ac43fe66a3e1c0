"""One number after another, in a process that is watched."""

from __future__ import annotations

import traceback
from multiprocessing.connection import Connection
from pathlib import Path

from .targets import KINDS, half_written, peak_memory, prepare


def work(kind: str, first: int, many: int, home: str, out: Connection) -> None:
    """In a process of its own: one number after another, each told before and after."""
    make, attempt = KINDS[kind]
    prepare(Path(home))
    for number in range(first, first + many):
        out.send(("begin", number))
        try:
            taken = attempt(Path(home), make(number))
            out.send(("taken" if taken else "refused", number))
        except BaseException as error:
            at = traceback.extract_tb(error.__traceback__)[-1]
            where = f"{Path(at.filename).name}:{at.lineno}"
            out.send((f"{type(error).__name__}: {str(error)[:160]} @{where}", number))
    out.send(("end", len(half_written(Path(home)))))
    out.send(("peak", peak_memory()))
    out.close()
