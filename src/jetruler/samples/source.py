"""Where a log's bytes come from, as UTF-8; what every log offers: its columns, then its rows batch
by batch."""

from __future__ import annotations

import codecs
import contextlib
import gzip
import io
import sys
import zlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence, Sized
from dataclasses import dataclass, field, replace
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import IO, Any, Self, TypeAlias, cast

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from ..core.bench.bench import LogFormat
from ..core.error_types import LogError
from ..files import note_read
from .cells import to_arrow
from .shapes import EXPECTED, Noise, before_unit, why_no_numbers
from .threads import Workers, ahead

BLOCK_BYTES = 4 * 2**20
LONGEST_LINE = 16 * 2**20


#: What a log can be written in, by what its name ends in.
SUFFIXES = {".csv": "csv", ".jsonl": "jsonl", ".ndjson": "jsonl", ".parquet": "parquet"}
KINDS = ("csv", "jsonl", "parquet")
PACKED = (".gz", ".zst")


#: What a log may be: a path ("-" is standard input), bytes, or an open file of either kind.
Log: TypeAlias = str | PathLike[str] | bytes | IO[str] | IO[bytes] | Sized


def name_of(log: Log) -> str:
    """What messages call a log."""
    if isinstance(log, str | PathLike):
        return "standard input" if str(log) == "-" else str(log)
    return "the bytes" if isinstance(log, bytes) else str(getattr(log, "name", "the file"))


def kind_of(path: Log) -> str | None:
    """The format that a name shows, packed or not; None if it shows none."""
    name = name_of(path).lower()
    for packing in PACKED:
        name = name.removesuffix(packing)
    return next((kind for suffix, kind in SUFFIXES.items() if name.endswith(suffix)), None)


#: Bytes that show the encoding.
PEEKED = 8192
_CONTROL = frozenset(map(chr, range(32))) - set("\t\n\r")
_CODECS = {"UTF-16": "utf-16", "Windows-1252": "cp1252"}


def is_utf_16(start: bytes) -> bool:
    """Whether a text begins as UTF-16 does, with its byte-order mark and half of its bytes zero."""
    return start[:2] in (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE) and b"\0" in start


class Recoded(io.RawIOBase):
    """A text in another encoding, as UTF-8."""

    def __init__(self, file: io.BufferedReader, encoding: str) -> None:
        self._file, self._rest = file, b""
        self._decoder = codecs.getincrementaldecoder(_CODECS[encoding])("replace")

    def readable(self) -> bool:
        """Always."""
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer as far as one reading goes; 0 at the end."""
        data = b"."
        while not self._rest and data:
            data = self._file.read(len(buffer))
            self._rest = self._decoder.decode(data, not data).encode()
        taken = self._rest[: len(buffer)]
        self._rest = self._rest[len(taken) :]
        buffer[: len(taken)] = taken
        return len(taken)


class ColumnError(LogError):
    """A column that a log does not have, or has twice."""

    def __init__(self, log: str, found: str) -> None:
        self.found = found
        super().__init__(f"{log}: {found}")


class LogSource:
    """The bytes of a log in blocks of whole lines, whatever they are packed in.

    A context manager. Raises `LogError` for a log that is missing or cannot be read.
    """

    def __init__(self, path: Log) -> None:
        self.name = name_of(path)
        self.bytes_total: int | None = None
        self._is_ours = isinstance(path, str | PathLike | bytes)
        self._raw = (
            self._open(path) if isinstance(path, str | PathLike) else self._given(cast(bytes, path))
        )
        self._file = self._unpacked()
        self.encoding = self._encoding()
        """How the text is written, where that is not UTF-8."""
        if self.encoding:
            self._file = io.BufferedReader(Recoded(self._file, self.encoding))

    def _given(self, given: bytes | IO[str] | IO[bytes]) -> io.BufferedReader:
        """Bytes, or an open file, which stays open; that of a text is read at once."""
        if not isinstance(given, bytes):
            start = given.read(0)
            if isinstance(start, bytes):
                return io.BufferedReader(cast(io.RawIOBase, given), 65536)
            given = str(given.read()).encode("utf-8", "surrogateescape")
        self.bytes_total = len(given)
        return io.BufferedReader(cast(io.RawIOBase, io.BytesIO(given)))

    def _open(self, path: str | PathLike[str]) -> io.BufferedReader:
        if str(path) == "-":
            return io.BufferedReader(cast(io.RawIOBase, sys.stdin.buffer), 65536)
        try:
            note_read(Path(path))
            raw = Path(path).open("rb")  # noqa: SIM115 - closed by __exit__
            if Path(path).is_file():
                self.bytes_total = Path(path).stat().st_size
            return raw
        except FileNotFoundError:
            raise LogError(f"{self.name}: expected a log, found no such file") from None
        except IsADirectoryError:
            raise LogError(f"{self.name}: expected a log, found a folder") from None
        except OSError as error:
            raise LogError(f"{self.name}: cannot be read: {error.strerror}") from None

    def _unpacked(self) -> io.BufferedReader:
        start = self._raw.peek(4)[:4]
        if start[:2] == b"\x1f\x8b":
            return cast(io.BufferedReader, gzip.GzipFile(fileobj=self._raw))
        if start == b"\x28\xb5\x2f\xfd":
            packed = pa.CompressedInputStream(self._raw, "zstd")
            return io.BufferedReader(cast(io.RawIOBase, packed), 2**20)
        return self._raw

    def _encoding(self) -> str:
        """The encoding that the first bytes show; empty for UTF-8, and where nobody can tell."""
        try:
            start = self._file.peek(PEEKED)[:PEEKED]
        except (OSError, EOFError, zlib.error):
            return ""  # whoever reads it says why
        if is_utf_16(start):
            return "UTF-16"
        whole = start[: max(start.rfind(b"\n"), start.rfind(b"\r")) + 1]
        text = whole.decode("utf-8", "surrogateescape")
        damaged = {sign for sign in text if "\udc80" <= sign <= "\udcff"}
        if not damaged or any(sign > "\x7f" for sign in set(text) - damaged):
            return ""  # a damaged line is no other encoding
        # What a board sends while it starts is no text in any encoding.
        with contextlib.suppress(UnicodeDecodeError):
            return "Windows-1252" if _CONTROL.isdisjoint(whole.decode("cp1252")) else ""
        return ""

    @property
    def bytes_read(self) -> int:
        """Bytes taken from the file so far (packed bytes, if it is packed)."""
        if self.bytes_total is None:
            return 0
        try:
            return self._raw.tell()
        except (OSError, ValueError):  # closed, perhaps this moment by another thread
            return self.bytes_total

    def __enter__(self) -> LogSource:
        return self

    def __exit__(self, *error: object) -> None:
        """Close the file; standard input stays open, and so does a pipe after an error: a thread
        may be waiting in it for what never comes, and closing would wait for that thread."""
        piped = self.bytes_total is None and error[:1] not in ((), (None,))
        if self.name == "standard input" or piped:
            return
        if self._is_ours:
            self._raw.close()
        elif not self._raw.closed:
            with contextlib.suppress(io.UnsupportedOperation, ValueError):
                self._raw.detach()

    def read(self, size: int) -> bytes:
        """Up to `size` bytes; short only at the end."""
        try:
            return self._file.read(size)
        except (EOFError, zlib.error, gzip.BadGzipFile) as error:
            raise LogError(f"{self.name}: the gzip data is damaged or cut short: {error}") from None
        except OSError as error:
            if error.strerror is None:  # PyArrow's own
                raise LogError(f"{self.name}: the zstd data is damaged or cut short") from None
            raise LogError(f"{self.name}: cannot be read: {error.strerror}") from None

    def blocks(self, size: int | None = None) -> Iterator[tuple[bytes, bool]]:
        """Blocks of whole lines with LF or CRLF ends, and whether the block is the last one."""
        found = self._blocks(size)
        # A pipe may be silent for ever, and whoever waits in it does not hear a signal.
        return ahead(found) if self.bytes_total is None else found

    def _blocks(self, size: int | None) -> Iterator[tuple[bytes, bool]]:
        size = size or BLOCK_BYTES
        chunk = self.read(size).removeprefix(b"\xef\xbb\xbf")
        lone_cr = b"\r" in chunk and b"\n" not in chunk
        rest = b""
        while chunk:
            following = self.read(size)
            if lone_cr:
                chunk = chunk.replace(b"\r", b"\n")
            cut = len(chunk) if not following else chunk.rfind(b"\n") + 1
            if cut:
                yield b"".join((rest, memoryview(chunk)[:cut])), not following  # copied once
                rest = b""
            rest, chunk = rest + chunk[cut:], following
            if len(rest) > LONGEST_LINE:
                raise LogError(f"{self.name}: a line of over 16 MiB; this is not a log with rows")


Lines = npt.NDArray[np.int64]
NONE_TORN: Lines = np.empty(0, np.int64)


class Columns(Sequence[pa.Array]):
    """Columns that are fetched when they are asked for, once."""

    def __init__(self, count: int, fetch: Callable[[int], pa.Array]) -> None:
        self._count, self._fetch = count, fetch
        self._known: dict[int, pa.Array] = {}

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, index: Any) -> Any:
        if index >= self._count:
            raise IndexError(index)
        if index not in self._known:
            self._known[index] = self._fetch(index)
        return self._known[index]


@dataclass(frozen=True)
class RowBatch:
    """Some rows of a log: an array a column, as text or typed, as the log has it.

    lines: line (or row) number of each row. torn: rows that had too few or too many fields, or
    were no record at all. quoted: whether a cell may need quotes again when it is written as CSV.
    behind: the unit behind the numbers of each column, where one has one.
    """

    columns: Sequence[pa.Array]
    lines: Lines
    torn: Lines = field(default_factory=lambda: NONE_TORN)
    quoted: bool = False
    behind: tuple[str, ...] = ()

    def numbers(self, index: int) -> pa.Array:
        """The cells of a column, without the unit behind their numbers."""
        cells, unit = self.columns[index], "".join(self.behind[index : index + 1])
        if not unit or not (pa.types.is_string(cells.type) or pa.types.is_binary(cells.type)):
            return cells
        return pc.replace_substring_regex(cells, before_unit(unit), r"\1")

    @property
    def rows(self) -> int:
        """How many rows."""
        return self.lines.size

    def part(self, kept: npt.NDArray[np.bool_]) -> RowBatch:
        """Some of the rows."""
        mask = to_arrow(kept.view(np.uint8)).cast(pa.bool_())
        columns = [column.filter(mask) for column in self.columns]
        is_torn = np.zeros(self.rows, np.bool_)
        is_torn[self.torn] = True
        torn = np.flatnonzero(is_torn[kept])
        return replace(self, columns=columns, lines=self.lines[kept], torn=torn)

    def head(self, rows: int) -> RowBatch:
        """The first rows."""
        columns = Columns(len(self.columns), lambda index: self.columns[index].slice(0, rows))
        torn = self.torn[self.torn < rows]
        return replace(self, columns=columns, lines=self.lines[:rows], torn=torn)


class LogReader(ABC):
    """A log: its columns, then its rows batch by batch in constant memory. A context manager.

    Raises `LogError` for a log that is empty, damaged or not in the format it should be in.
    """

    #: What the number of a row counts: the lines of a text, or rows.
    counted = "line"
    #: Whether all columns come as text.
    of_text = False

    columns: list[str]

    def __init__(self, name: str, form: LogFormat) -> None:
        self.name, self.form = name, form
        self.delimiter, self.crlf = ",", False
        self.has_header: bool | None = True
        """Whether the first line has the names of the columns."""
        self.unnamed = False
        """Whether columns have numbers for names, as in a log without a header."""
        self.units: Mapping[str, str] = {}
        """The units that the log states beside its names, by column."""
        self.first_line = ""
        """What is where the first sample should."""
        self.noise = Noise()
        """Lines that were no samples."""
        self.comments = 0
        self.blank_lines = 0
        self.quotes: list[tuple[int, int]] = []
        """Lines in which a quote opens that is never closed (0), or whose cell spans this many
        lines."""
        self.late: dict[str, int] = {}
        """Fields that came when the columns were settled, and how many values of each were left
        out."""

    @abstractmethod
    def batches(
        self, integers: Iterable[int] = (), workers: Workers | None = None
    ) -> Iterator[RowBatch]:
        """The rows in order, some ten thousands at a time.

        integers: positions of columns of counts: a text log gives them as int64 (empty cells as
        null) where a whole batch of them reads so. workers: what reads ahead; a thread a core if
        None.
        """

    def ask(self, integers: Iterable[int], floats: Iterable[int] = ()) -> None:  # noqa: B027
        """From one of the next batches on, a text log gives columns as int32 or float64 where it
        can."""

    def nothing_read(self, columns: Iterable[int | str]) -> LogError:
        """What is wrong with a log of which not one wanted value is a number."""
        named = ", ".join(map(str, columns))
        first = next(iter(self.noise.first.values()), self.first_line)
        quoted = f"; the first line is {first!r}; {EXPECTED}" if first else ""
        what = f"not one number can be read in column {named}" if named else "no line has a sample"
        cells = first.split(self.delimiter) if first and self.of_text and self.delimiter else []
        hint = why_no_numbers(cells, self.form.decimal)
        return LogError(f"{self.name}: {what}{quoted}{hint}")

    @property
    def can_be_read_again(self) -> bool:
        """Whether it is a file, and no pipe."""
        return self.progress[1] is not None

    @property
    def progress(self) -> tuple[int, int | None]:
        """How much is read, and of how much, if that is known."""
        return 0, None

    def __enter__(self) -> Self:
        return self

    def __exit__(  # noqa: B027
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        """Close what is open."""

    def position(self, column: str | int) -> int:
        """Where a column is, by its name or its number from 1. Raises `ColumnError`."""
        return position_in(self.columns, column, self.name, self.without_names)

    @property
    def without_names(self) -> str:
        """How its lines are read, where no line has the names of their columns."""
        return self.line_format

    @property
    def line_format(self) -> str:
        """How its lines are read; empty where that is as usual, or as somebody said."""
        return ""

    @property
    def remarks(self) -> list[str]:
        """How the lines were read, where that is not as usual, and which were no samples."""
        line_format = f"reading lines as: {self.line_format}" if self.line_format else ""
        return [text for text in (line_format, self.noise.words) if text]

    def positions(self, columns: Iterable[str | int]) -> set[int]:
        """Where those of some columns are that the log has."""
        columns, names = list(columns), [name.strip() for name in self.columns]
        numbers = range(1, len(names) + 1)
        there = {c - 1 for c in columns if isinstance(c, int) and c in numbers}
        return there | {names.index(c) for c in columns if c in names}


def position_in(columns: Sequence[str], column: str | int, log: str, line_format: str = "") -> int:
    """Where a column is, by its name or its number from 1. said: how lines are read, where that
    is not as usual. Raises `ColumnError`."""
    names = [name.strip() for name in columns]
    if isinstance(column, int) and column <= len(names):
        return column - 1
    if isinstance(column, str) and names.count(column) == 1:
        return names.index(column)
    if isinstance(column, str) and column in names:
        raise ColumnError(log, f"{names.count(column)} columns are named {column!r}")
    shown = column if isinstance(column, int) else repr(column)
    if line_format:
        raise ColumnError(log, f"there is no column {shown}; its lines are read as {line_format}")
    if isinstance(column, int):
        raise ColumnError(log, f"there is no column {shown}; it has {len(names)}")
    has = ", ".join(names[:30]) + (", …" if len(names) > 30 else "")
    raise ColumnError(log, f"there is no column {shown}; it has: {has}")
