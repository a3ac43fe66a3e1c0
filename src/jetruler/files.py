"""Files: names that systems take, what is read and what may be written over, files that appear
whole, files that grow, and a lock for those that are edited."""

from __future__ import annotations

import contextlib
import glob
import gzip
import hashlib
import os
import re
import sys
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import lru_cache
from itertools import islice
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, cast

from .core.error_types import JetRulerError, LogError
from .system import is_running

#: Names of devices, with any ending.
DEVICES = {"con", "prn", "aux", "nul"}


DEVICES |= {f"{port}{n}" for port in ("com", "lpt") for n in range(10)}

#: Characters that no name on Windows has, and the longest path without a prefix.
_FORBIDDEN, _LONGEST = '<>"|?*', 240


def is_windows() -> bool:
    """Whether names of files follow the rules of Windows here."""
    return os.name == "nt"


def unfit(path: Path) -> str:
    """Why Windows cannot make a file of this name; empty where it can, or is not here."""
    name = path.name
    if not is_windows():
        return ""
    if name.partition(".")[0].strip().lower() in DEVICES:
        return "Windows keeps this name for a device"
    if error := next((c for c in name if c in _FORBIDDEN or ord(c) < 32 or c == ":"), ""):
        return f"no name on Windows has the character {error!r}"
    if name.endswith((" ", ".")):
        return "no name on Windows ends in a space or a dot"
    return ""


def reachable(path: Path) -> Path:
    """The path as the system takes it: on Windows, long ones need a prefix."""
    whole = str(path.absolute()) if is_windows() else ""
    if len(whole) <= _LONGEST or whole.startswith("\\\\?\\"):
        return path
    return Path("\\\\?\\" + ("UNC" + whole[1:] if whole.startswith("\\\\") else whole))


@lru_cache(4096)
def folds_case(folder: Path) -> bool:
    """Whether names that differ in case alone are one file in this folder: asked of what is in it,
    else of the nearest folder above that is there."""
    inside = list(islice(folder.iterdir(), 8)) if folder.is_dir() else []
    for known in (*inside, folder, *folder.parents):
        other = known.with_name(known.name.swapcase()) if known.name else known
        if other != known and known.exists():
            with contextlib.suppress(OSError):
                return other.exists() and other.samefile(known)
    return is_windows()


#: Bytes of a file that was written by hand, or of a table of points.
LARGEST = 2**24
File = str | PathLike[str] | None


def reject_overlapping_paths(outputs: Mapping[str, File], inputs: Mapping[str, File]) -> None:
    """Refuse an output that is an input or another output, by whatever name: path, link, case.

    Parameters
    ----------
    outputs : what each option writes: `{"-o": "out.csv"}`.
    inputs : what is read: `{"the log": "log.csv"}`. None and "-" are no files; devices and pipes
        may be named twice.

    Raises
    ------
    JetRulerError
        Naming both.
    """
    known = [(w, Path(p)) for w, p in inputs.items() if p is not None and _is_file(p)]
    for option, path in outputs.items():
        if path is None or not _is_file(path):
            continue
        for what, other in known:
            if same_file(Path(path), other):
                raise JetRulerError(f"{option} {path}: expected another file, found {what}")
        known.append((f"what {option} writes", Path(path)))


def resolved(path: Path) -> Path:
    """Where a path leads. Raises `LogError` for links that lead in a circle."""
    try:
        return path.resolve()
    except (OSError, RuntimeError):
        raise LogError(f"{path}: expected a file, found a link that points to nothing") from None


def same_file(one: Path, other: Path) -> bool:
    """Whether two names represent one file, there or not yet there."""
    try:
        if one.exists() and other.exists():
            return one.samefile(other)
    except OSError:
        pass
    first, second = resolved(one), resolved(other)
    return one_name(first) == one_name(second) if _is_same(first, second) else first == second


def _is_same(one: Path, other: Path) -> bool:
    return str(one).casefold() == str(other).casefold()


def one_name(path: Path) -> str:
    """What files of one name have in common: without its case, where that tells no files apart."""
    return str(path).casefold() if folds_case(path.parent) else str(path)


def _is_file(path: File) -> bool:
    if path is None or str(path) == "-" or "://" in str(path) or descriptor_of(path) is not None:
        return False
    return Path(path).is_file() or not Path(path).exists()


#: What the running command has read and what it writes; None where nobody watches over it.
_used: dict[Path, str] | None = None
#: Temporary files of the running command, which a signal may end before whoever made them is able
#: to remove them.
_temporary: set[Path] = set()


@contextmanager
def guarded() -> Iterator[None]:
    """While one command runs, let no output take the place of what it has read, or writes."""
    global _used
    _used = {}
    _temporary.clear()
    try:
        yield
    finally:
        _used = None
        for part in _temporary:
            part.unlink(missing_ok=True)


def note_read(path: Path) -> None:
    """A file is read: from now on it is no output."""
    if _used is not None and path.is_file():
        _used[resolved(path)] = "is read"


def reject_used(path: Path) -> None:
    """Raises `LogError` for an output that the running command has read, or writes already."""
    if path.exists() and not path.is_file():
        return
    for other, how in (_used or {}).items():
        if same_file(path, other):
            raise LogError(f"{path}: this file {how} by the same command; name another file")


def _note_written(path: Path) -> None:
    """A file will be written. Raises `LogError` where it is one that is used already."""
    reject_used(path)
    if _used is not None and (path.is_file() or not path.exists()):
        _used[resolved(path)] = "is written"


def text_of_file(path: Path) -> str:
    """The text of a small file in UTF-8. Raises `OSError` for what is none."""
    return bytes_of_file(path).decode("utf-8")


def bytes_of_file(path: Path) -> bytes:
    """The bytes of a small file. Raises `OSError` for what is none: a pipe would be waited for, and
    nobody writes so large a one by hand."""
    note_read(path)
    if path.exists() and not path.is_file() and not path.is_dir():
        raise OSError(f"{path} is no file, but a pipe or a device")
    if path.is_file() and path.stat().st_size > LARGEST:
        raise OSError(f"it has {path.stat().st_size} bytes; up to {LARGEST} are read")
    return path.read_bytes()


#: Bytes of a file's name that its temporary name keeps: no system takes more than 255.
_KEPT = 120


def temp_path(final: Path) -> Path:
    """A temporary name beside a file, unlike any other; what killed runs left there is removed."""
    start = final.name.encode()[:_KEPT].decode("utf-8", "ignore")
    for left in final.parent.glob(f".{glob.escape(start)}.*.part"):
        maker = left.name.removesuffix(".part").rpartition(".")[2].partition("-")[0]
        if maker.isdigit() and int(maker) != os.getpid() and not is_running(int(maker)):
            left.unlink(missing_ok=True)
    part = final.with_name(f".{start}.{os.getpid()}-{os.urandom(4).hex()}.part")
    if _used is not None:
        _temporary.add(part)
    return part


def atomic_replace(part: Path, final: Path) -> None:
    """Put a finished file in its place. Raises `PermissionError`: some systems replace no file that
    a program holds open."""
    try:
        if final.exists():
            part.chmod(final.stat().st_mode)
        part.replace(final)
    except PermissionError as error:
        why = "another program holds it open, or it is protected; the old file is as it was"
        raise PermissionError(error.errno, why, str(final)) from None


#: Where systems keep the descriptors of a process, as their own files.
_DESCRIPTORS = re.compile(r"/(?:dev|proc/(?:self|thread-self|\d+)(?:/task/\d+)?)/fd")
_STREAMS = {"/dev/stdin": 0, "/dev/stdout": 1, "/dev/stderr": 2}


def descriptor_of(path: str | PathLike[str]) -> int | None:
    """The number of the open descriptor that a name represents, as `/dev/stdout` and `/dev/fd/3`
    do; None for any other name."""
    name = Path(path)
    for _ in range(40):  # links to links, as many as a system follows
        if str(name) in _STREAMS:
            return _STREAMS[str(name)]
        folder = os.path.realpath(name.parent)
        if name.name.isdigit() and _DESCRIPTORS.fullmatch(folder):
            return int(name.name)
        if not name.is_symlink():
            return None
        name = name.parent / name.readlink()
    return None


def standard_or(path: str) -> str:
    """ "-" for any name of standard output; else the name."""
    return "-" if descriptor_of(path) == 1 else path


def open_growing(path: str | PathLike[str], *, append: bool = False) -> tuple[BinaryIO, bool]:
    """A file that is written as things happen, and whether it is new. What it held stays.

    Parameters
    ----------
    append : whether it may hold something already; else it is refused.

    Raises
    ------
    LogError : for a file that holds something, is used already, or cannot be written.
    """
    path = Path(path)
    try:
        if (number := descriptor_of(path)) is not None:
            return os.fdopen(os.dup(number), "wb", buffering=0), True
        if path.is_fifo():  # whoever writes to one alone would wait for its reader
            waits_not = os.open(path, os.O_RDWR | os.O_NONBLOCK)
            return os.fdopen(waits_not, "wb", buffering=0), True
        _note_written(path)
        holds = path.is_file() and path.stat().st_size > 0
        if holds and not append:
            raise LogError(f"{path}: expected a new file, found one that holds something; --append")
        file: BinaryIO = reachable(path).open("ab", buffering=0)
    except OSError as error:
        raise LogError(f"{path}: cannot be written: {error.strerror}") from None
    return file, not holds


@contextmanager
def editing(path: str | PathLike[str]) -> Iterator[None]:
    """Change a file while nobody else does. Raises `JetRulerError` where somebody does for long."""
    from filelock import FileLock, Timeout

    name = hashlib.sha256(one_name(resolved(Path(path))).encode("utf-8", "surrogateescape"))
    lock = Path(tempfile.gettempdir(), f"jetruler-{name.hexdigest()[:24]}.lock")
    try:
        with FileLock(lock, timeout=LOCK_WAIT, mode=0o666):
            yield
    except Timeout:
        raise JetRulerError(f"{path}: another program is changing it; try again") from None


#: Seconds that a change waits for another one to be done.
LOCK_WAIT = 10.0


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
        named = descriptor_of(path) is None and path.is_file()
        if str(source) != "-" and named and same_file(path, Path(source)):
            raise LogError(f"{path}: expected another file for the output, found the input")
        if path.is_dir():
            raise LogError(f"{path}: expected a file for the output, found a folder")
        if not path.parent.is_dir():
            raise LogError(f"{path}: expected a folder {path.parent}, found none; make it first")
        if why := unfit(path):
            raise LogError(f"{path}: {why}; give it another name")
        try:
            if (number := descriptor_of(path)) is not None:
                return os.fdopen(os.dup(number), "wb")
            if path.exists() and not path.is_file():  # a device or a pipe
                return path.open("wb")
            _note_written(path)
            self._final = reachable(resolved(path))
            self._part = temp_path(self._final)
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
            elif _used is not None and self._final is not None:
                _used.pop(self._final, None)  # it was not written after all
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
                return self._put_in_place()
            self._file.flush()
            if not self._to_stdout:
                self._file.close()
        except BrokenPipeError:
            raise
        except OSError as error:
            raise LogError(f"{self.name}: cannot be written: {error.strerror}") from None
        self._put_in_place()

    def _put_in_place(self) -> None:
        if self._part is not None and self._final is not None:
            try:
                atomic_replace(self._part, self._final)
            except OSError as error:
                raise LogError(f"{self.name}: cannot be written: {error.strerror}") from None


def write_file(path: str | PathLike[str], data: bytes) -> None:
    """Write a whole file at once, or leave nothing behind."""
    with Output(path) as out:
        out.write(data)
