"""Logs of text: blocks of whole lines, read side by side and numbered in order."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from dataclasses import dataclass, field
from types import TracebackType

import numpy as np
import pyarrow as pa

from ..core.model.log_format import LogFormat
from .ahead import Workers
from .reader import LogReader, RowBatch
from .shapes import Noise, Shape
from .source import LogSource


@dataclass(frozen=True)
class Read:
    """What became of a block: its rows, with lines counted from 0, and what was left out.

    ends: the lines it took. noise: lines that are no samples.
    """

    batch: RowBatch
    ends: int
    comments: int = 0
    blank: int = 0
    late: dict[str, int] = field(default_factory=dict)
    quotes: list[tuple[int, int]] = field(default_factory=list)
    noise: Noise = field(default_factory=Noise)


class BlockReader(ABC):
    """Reads blocks of whole lines of one form, in any thread: what files and streams share."""

    shape: Shape
    columns: list[str]

    @abstractmethod
    def read(self, block: bytes) -> Read:
        """The rows of a block, which ends with a line end."""

    def ask(self, types: dict[int, pa.DataType]) -> None:  # noqa: B027
        """From one of the next blocks on, columns come in these types where they can."""

    def is_open(self, block: bytes) -> bool:
        """Whether a block ends within a row."""
        return False

    def read_part(self, block: bytes, last: bool) -> tuple[Read, bytes]:
        """The rows of a block that may end within one, and the bytes of that one."""
        return self.read(block), b""


class TextReader(LogReader):
    """A log of text, plain or packed.

    held: the first block, from the first sample on, and whether it is the last one. line: the
    number of its first line.
    """

    of_text = True

    def __init__(
        self,
        source: LogSource,
        form: LogFormat,
        blocks: BlockReader,
        *,
        following: Iterator[tuple[bytes, bool]],
        held: tuple[bytes, bool],
        line: int,
    ) -> None:
        super().__init__(source.name, form)
        self.source, self.blocks, self.columns = source, blocks, blocks.columns
        self.shape = blocks.shape
        self.unnamed = self.shape.kind == "csv" and not self.shape.names
        self.of_text = blocks.shape.kind != "jsonl"
        self.has_header = blocks.shape.header or not self.unnamed or not blocks.shape.plain
        self.delimiter = blocks.shape.delimiter if blocks.shape.plain else ","
        self._following, self._held, self._line = following, held, line

    @property
    def said(self) -> str:
        """How its lines are read; empty where that is as usual, or as somebody said."""
        known = self.shape.plain and (self.form.header is not None or self.form.columns is not None)
        return "" if known else self.shape.said

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

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:
        """From one of the next batches on, columns come as int32 or float64 where they can."""
        self.blocks.ask(dict.fromkeys(floats, pa.float64()) | dict.fromkeys(integers, pa.int32()))

    def _pieces(self) -> Iterator[bytes | Read]:
        """Blocks that can be read side by side; one that ends within a row is read here."""
        carried = b""
        for block, last in self._all_blocks():
            block, carried = carried + block, b""
            if last and block and not block.endswith(b"\n"):
                block += b"\n"
            if self.blocks.is_open(block):
                found, carried = self.blocks.read_part(block, last)
                yield found
            else:
                yield block

    def _all_blocks(self) -> Iterator[tuple[bytes, bool]]:
        yield self._held
        self._held = (b"", True)
        yield from self._following

    def _read(self, piece: bytes | Read) -> Read:
        return piece if isinstance(piece, Read) else self.blocks.read(piece)

    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order."""
        self.blocks.ask(dict.fromkeys(integers, pa.int64()))
        with ExitStack() as stack:
            if workers is None:
                workers = stack.enter_context(Workers())
            for found in workers.in_order(self._pieces(), self._read):
                np.add(found.batch.lines, self._line, out=found.batch.lines)
                self.quotes += [(line + self._line, used) for line, used in found.quotes]
                self._line += found.ends
                self.comments += found.comments
                self.blank_lines += found.blank
                self.noise.join(found.noise)
                for name, count in found.late.items():
                    self.late[name] = self.late.get(name, 0) + count
                if found.batch.rows:
                    yield found.batch
