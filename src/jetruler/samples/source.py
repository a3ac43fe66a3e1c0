"""Where a log's bytes come from: a file, plain or packed, or standard input; its first line."""

from __future__ import annotations

import contextlib
import gzip
import io
import sys
import zlib
from collections.abc import Iterator
from os import PathLike
from pathlib import Path
from typing import IO, BinaryIO, TypeAlias, cast

from ..core.error_types import JetRulerError
from .ahead import ahead

BLOCK_BYTES = 4 * 2**20
LONGEST_LINE = 16 * 2**20


#: What a log can be written in, by what its name ends in.
SUFFIXES = {".csv": "csv", ".jsonl": "jsonl", ".ndjson": "jsonl", ".parquet": "parquet"}
KINDS = ("csv", "jsonl", "parquet")
PACKED = (".gz", ".zst")


#: What a log may be: a path ("-" is standard input), bytes, or an open file of either kind.
Log: TypeAlias = str | PathLike[str] | bytes | IO[str] | IO[bytes]


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


class LogError(JetRulerError):
    """A log that cannot be read or written: its name and one sentence.

    Examples
    --------
    >>> import jetruler as jr
    >>> try:
    ...     jr.look("none.csv")
    ... except jr.errors.LogError as error:
    ...     print(error)
    none.csv: there is no such file; a log is wanted
    """


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
        self._raw = self._open(path) if isinstance(path, str | PathLike) else self._given(path)
        self._file = self._unpacked()

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
            raw = Path(path).open("rb")  # noqa: SIM115 - closed by __exit__
            if Path(path).is_file():
                self.bytes_total = Path(path).stat().st_size
            return raw
        except FileNotFoundError:
            raise LogError(f"{self.name}: there is no such file; a log is wanted") from None
        except IsADirectoryError:
            raise LogError(f"{self.name}: this is a folder; a log is wanted") from None
        except OSError as error:
            raise LogError(f"{self.name}: cannot be read: {error.strerror}") from None

    def _unpacked(self) -> BinaryIO:
        start = self._raw.peek(4)[:4]
        if start[:2] == b"\x1f\x8b":
            return cast(BinaryIO, gzip.GzipFile(fileobj=self._raw))
        if start == b"\x28\xb5\x2f\xfd":
            import pyarrow as pa

            return cast(BinaryIO, pa.CompressedInputStream(self._raw, "zstd"))
        if start[:2] in (b"\xff\xfe", b"\xfe\xff"):
            self.__exit__()
            raise LogError(f"{self.name}: this is UTF-16 text; save it as UTF-8")
        return self._raw

    @property
    def bytes_read(self) -> int:
        """Bytes taken from the file so far (packed bytes, if it is packed)."""
        return self._raw.tell() if self.bytes_total is not None else 0

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
            block = rest + (chunk.replace(b"\r", b"\n") if lone_cr else chunk)
            cut = len(block) if not following else block.rfind(b"\n") + 1
            if cut:
                yield block[:cut], not following
            rest, chunk = block[cut:], following
            if len(rest) > LONGEST_LINE:
                raise LogError(f"{self.name}: a line of over 16 MiB; this is no log of rows")
