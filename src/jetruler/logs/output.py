"""Where results go: a file that appears whole or not at all, or standard output."""

from __future__ import annotations

import contextlib
import gzip
import sys
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, cast

from ..files import appear, part_beside, same_file
from ..samples.source import LogError
from ..system.file_names import reachable, unfit


class Output:
    """A file under a temporary name in its own folder, renamed when all is written.

    As a context manager: an error leaves nothing behind. "-" is standard output; a device or a
    pipe is written directly. A name that ends in .gz or .zst is packed.
    Raises `LogError` for a folder that is missing, a folder given as a file, or the input itself.
    """

    def __init__(self, path: str | PathLike[str], source: str | PathLike[str] = "-") -> None:
        self.name = "standard output" if str(path) == "-" else str(path)
        self._final: Path | None = None
        self._part: Path | None = None
        self._to_stdout = str(path) == "-"
        # Standard output may be without a binary side, as in a notebook: it is asked only if used.
        self._file = sys.stdout.buffer if self._to_stdout else self._opened(Path(path), source)
        self._packed: BinaryIO | None = None
        if self.name.endswith(".gz"):
            packed = gzip.GzipFile("", "wb", 6, self._file, mtime=0)
            self._packed = cast(BinaryIO, packed)
        elif self.name.endswith(".zst"):
            import pyarrow as pa  # pictures and code are written without it

            self._packed = cast(BinaryIO, pa.CompressedOutputStream(self._file, "zstd"))
        self.packs = self._packed is not None
        self.file = self._packed or self._file
        self.write = self.file.write

    def _opened(self, path: Path, source: str | PathLike[str]) -> BinaryIO:
        if str(source) != "-" and path.is_file() and same_file(path, Path(source)):
            raise LogError(f"{path}: this is the input; name another file for the output")
        if path.is_dir():
            raise LogError(f"{path}: this is a folder; name a file for the output")
        if not path.parent.is_dir():
            raise LogError(f"{path}: there is no folder {path.parent}; make it first")
        if why := unfit(path):
            raise LogError(f"{path}: {why}; give it another name")
        try:
            if path.exists() and not path.is_file():  # a device or a pipe
                return path.open("wb")
            self._final = reachable(path.resolve())
            self._part = part_beside(self._final)
            return self._part.open("xb")
        except OSError as error:
            raise LogError(f"{path}: cannot be written: {error.strerror}") from None

    def __enter__(self) -> Output:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        traceback: TracebackType | None,
    ) -> None:
        try:
            if kind is None:
                self._finish()
        finally:
            for file in (self._packed, self._file):
                with contextlib.suppress(OSError, ValueError):
                    if file is not None and not (self._to_stdout and file is self._file):
                        file.close()
            if self._part is not None:
                self._part.unlink(missing_ok=True)

    def _finish(self) -> None:
        try:
            if self._packed is not None:
                self._packed.close()
            if self._file.closed:  # by what packs
                return self._appear()
            self._file.flush()
            if not self._to_stdout:
                self._file.close()
        except BrokenPipeError:
            raise
        except OSError as error:
            raise LogError(f"{self.name}: cannot be written: {error.strerror}") from None
        self._appear()

    def _appear(self) -> None:
        if self._part is not None and self._final is not None:
            try:
                appear(self._part, self._final)
            except OSError as error:
                raise LogError(f"{self.name}: cannot be written: {error.strerror}") from None


def write_file(path: str | PathLike[str], data: bytes) -> None:
    """Write a whole file at once, or leave nothing behind."""
    with Output(path) as out:
        out.write(data)
