"""What each result of a folder was made of, so that a run which goes on knows what is done."""

from __future__ import annotations

import contextlib
import hashlib
import json
from collections.abc import Sequence
from dataclasses import fields
from os import PathLike
from pathlib import Path

from .. import __version__
from ..core.error_types import JetRulerError
from ..core.model.channel import Bench
from ..logs.options import ConvertOptions
from ..logs.output import write_file
from .plan import Task

#: The file in the folder of the results that says so.
NAME = ".jetruler-made.json"
#: Options that change no result.
NO_MATTER = ("threads", "memory")


class MadeOf:
    """Results by name, each with a digest of its log, the options, the bench and the version."""

    def __init__(
        self,
        folder: str | PathLike[str],
        options: ConvertOptions,
        bench: Bench,
        inputs: Sequence[str | PathLike[str]],
    ) -> None:
        self._path = Path(folder) / NAME
        self._known: dict[str, str] = {}
        with contextlib.suppress(OSError, ValueError):
            self._known = dict(json.loads(self._path.read_text("utf-8")))
        said = {f.name: repr(getattr(options, f.name)) for f in fields(options)}
        said = {name: value for name, value in said.items() if name not in NO_MATTER}
        read = [hashlib.sha256(Path(path).read_bytes()).hexdigest() for path in inputs]
        self._common = json.dumps([__version__, said, read or repr(bench)])

    def is_done(self, task: Task) -> bool:
        """Whether its results are there, and were made of the very same."""
        outs = [task.out] if task.events is None else [task.out, task.events]
        there = all(out.is_file() for out in outs)
        return there and self._known.get(self._name(task)) == self._digest(task)

    def note(self, task: Task) -> None:
        """It was made just now."""
        self._known[self._name(task)] = self._digest(task)

    def save(self) -> None:
        """Write what is known. A result that it does not know is made again."""
        with contextlib.suppress(OSError, JetRulerError):
            write_file(self._path, json.dumps(self._known, indent=1, sort_keys=True).encode())

    def _name(self, task: Task) -> str:
        names = [task.out] if task.events is None else [task.out, task.events]
        folder = self._path.parent
        return " ".join(
            name.relative_to(folder).as_posix() if name.is_relative_to(folder) else name.name
            for name in names
        )

    def _digest(self, task: Task) -> str:
        try:
            found = task.log.stat()
        except OSError:
            return ""
        text = json.dumps([self._common, str(task.log), found.st_size, found.st_mtime_ns])
        return hashlib.sha256(text.encode()).hexdigest()
