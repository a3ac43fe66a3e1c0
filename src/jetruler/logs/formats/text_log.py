"""What logs of text have in common: blocks of lines, read side by side and numbered in order."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any

import numpy as np

from ..ahead import Workers
from ..reader import LogReader, RowBatch
from ..source import LogFormat, LogSource


@dataclass(frozen=True)
class Read:
    """What became of a block: its rows, with lines counted from 0, and what was left out.

    ends: the lines it took.
    """

    batch: RowBatch
    ends: int
    comments: int = 0
    blank: int = 0
    late: dict[str, int] = field(default_factory=dict)
    quotes: list[tuple[int, int]] = field(default_factory=list)


class TextReader(LogReader):
    """A log of text, plain or packed."""

    def __init__(self, source: LogSource, form: LogFormat, block_bytes: int | None) -> None:
        super().__init__(source.name, form)
        self.source = source
        self._blocks = source.blocks(block_bytes)
        self._line = 1

    @abstractmethod
    def _pieces(self) -> Iterator[Any]:
        """Pieces of the log in order, each to be read on its own."""

    @abstractmethod
    def _read(self, piece: Any) -> Read:
        """Read a piece, in any thread."""

    @property
    def progress(self) -> tuple[int, int | None]:
        """Bytes read, and of how many."""
        return self.source.bytes_read, self.source.bytes_total

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        self.source.__exit__(kind, error, traceback)

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order."""
        with ExitStack() as stack:
            if workers is None:
                workers = stack.enter_context(Workers())
            for found in workers.in_order(self._pieces(), self._read):
                np.add(found.batch.lines, self._line, out=found.batch.lines)
                self.quotes += [(line + self._line, used) for line, used in found.quotes]
                self._line += found.ends
                self.comments += found.comments
                self.blank_lines += found.blank
                for name, count in found.late.items():
                    self.late[name] = self.late.get(name, 0) + count
                if found.batch.rows:
                    yield found.batch
