"""What operating systems do in their own ways (signals, processes, memory, terminals, names of
files), and files that are written whole."""

from __future__ import annotations

import _thread
import contextlib
import ctypes
import glob
import gzip
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from functools import lru_cache, partial
from itertools import islice
from os import PathLike
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, cast

from .core.error_types import JetRulerError, LogError

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


_QUERY, _STILL_ACTIVE = 0x1000, 259


def cores() -> int:
    """How many processors this program may use: not all, where somebody has said so."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:  # not every system knows
        return os.cpu_count() or 1


def is_running(process: int) -> bool:
    """Whether a process with this number runs."""
    if os.name == "nt":  # where asking as POSIX does would end it
        import ctypes

        kernel: Any = ctypes.windll.kernel32  # type: ignore[attr-defined]
        handle = kernel.OpenProcess(_QUERY, False, process)
        if not handle:
            return False
        code = ctypes.c_ulong()
        known = kernel.GetExitCodeProcess(handle, ctypes.byref(code))
        kernel.CloseHandle(handle)
        return bool(known) and code.value == _STILL_ACTIVE
    try:
        os.kill(process, 0)
    except (ProcessLookupError, OverflowError):
        return False
    except OSError:
        pass
    return True


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
                raise JetRulerError(f"{option} {path}: this is {what}; name another file")
        known.append((f"what {option} writes", Path(path)))


def same_file(one: Path, other: Path) -> bool:
    """Whether two names stand for one file, there or not yet there."""
    try:
        if one.exists() and other.exists():
            return one.samefile(other)
    except OSError:
        pass
    first, second = one.resolve(), other.resolve()
    return one_name(first) == one_name(second) if _is_same(first, second) else first == second


def _is_same(one: Path, other: Path) -> bool:
    return str(one).casefold() == str(other).casefold()


def one_name(path: Path) -> str:
    """What files of one name have in common: without its case, where that tells no files apart."""
    return str(path).casefold() if folds_case(path.parent) else str(path)


def _is_file(path: File) -> bool:
    if path is None or str(path) == "-" or "://" in str(path):
        return False
    return Path(path).is_file() or not Path(path).exists()


def text_of_file(path: Path) -> str:
    """The text of a small file in UTF-8. Raises `OSError` for what is none: a pipe would be waited
    for, and nobody writes so large a one by hand."""
    if path.exists() and not path.is_file() and not path.is_dir():
        raise OSError(f"{path} is no file, but a pipe or a device")
    if path.is_file() and path.stat().st_size > LARGEST:
        raise OSError(f"it has {path.stat().st_size} bytes; up to {LARGEST} are read")
    return path.read_bytes().decode("utf-8")


#: Bytes of a file's name that its temporary name keeps: no system takes more than 255.
_KEPT = 120


def temp_path(final: Path) -> Path:
    """A temporary name beside a file, unlike any other; what killed runs left there is removed."""
    start = final.name.encode()[:_KEPT].decode("utf-8", "ignore")
    for left in final.parent.glob(f".{glob.escape(start)}.*.part"):
        maker = left.name.removesuffix(".part").rpartition(".")[2].partition("-")[0]
        if maker.isdigit() and int(maker) != os.getpid() and not is_running(int(maker)):
            left.unlink(missing_ok=True)
    return final.with_name(f".{start}.{os.getpid()}-{os.urandom(4).hex()}.part")


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


#: Below so many bytes of addresses it pays to be modest.
SCARCE = 1 << 32
#: Numbers of two options of the allocator, and what is large to it.
_ARENAS, _MAPPED, _LARGE = -8, -3, 1 << 18
#: Bytes of a thread's stack, and at most of what describes a thread.
_STACK, _ATTRIBUTES = 1 << 20, 256


def spare_addresses() -> None:
    """Under `ulimit -v`, reserve no more than is used: libraries set aside stacks, arenas and
    buffers for many threads, a gigabyte of which is never touched. To be called before any of
    them is loaded."""
    try:
        import resource
    except ImportError:  # Windows has no such limit
        return
    if not 0 <= resource.getrlimit(resource.RLIMIT_AS)[0] < SCARCE:
        return
    for name in ("ARROW_IO_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
    threading.stack_size(_STACK)
    library = ctypes.CDLL(None)
    if hasattr(library, "mallopt") and hasattr(library, "pthread_setattr_default_np"):  # of GNU
        library.mallopt(_ARENAS, 1)
        library.mallopt(_MAPPED, _LARGE)  # what is large is given back when it is freed
        attributes = ctypes.create_string_buffer(_ATTRIBUTES)
        library.pthread_attr_init(attributes)
        library.pthread_attr_setstacksize(attributes, ctypes.c_size_t(_STACK))
        library.pthread_setattr_default_np(attributes)


#: Signals that end a program in order: a polite kill, a terminal that closes, a quit by key, and
#: Ctrl-Break, which only Windows has.
ENDING = ("SIGTERM", "SIGHUP", "SIGQUIT", "SIGBREAK")

#: Events of a Windows console that end its programs: it closes, somebody logs off, it shuts down.
_CLOSING = (2, 5, 6)
#: Seconds that Windows leaves a program when its console closes.
GRACE = 5.0
_kept: list[Any] = []  # a callback that Python forgets would crash the system's thread


#: What is done when the program is asked to end, once it was asked to.
_ending: list[Callable[[], Any]] = []


def on_ending(handler: Callable[[int, Any], Any]) -> None:
    """Call this in the main thread when the program is asked to end; Ctrl-C keeps raising
    `KeyboardInterrupt`. What whoever started it ignores (as `nohup` does) stays ignored."""
    _ending.clear()
    known = dict.fromkeys(ENDING, handler) | {"SIGINT": signal.default_int_handler}
    for name, handle in known.items():
        number = getattr(signal, name, None)
        with contextlib.suppress(ValueError):  # not in the main thread
            if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
                signal.signal(number, partial(_end, handle))
    if hasattr(signal, "SIGBREAK"):
        _hear_console()


def _end(handle: Callable[[int, Any], Any], number: int, frame: Any) -> None:
    _ending.append(partial(handle, number, None))
    handle(number, frame)


def end_if_asked() -> None:
    """End now, if the program was asked to and goes on all the same: what a handler raises is lost
    where it comes in the middle of a call back from C."""
    if _ending and threading.current_thread() is threading.main_thread():
        _ending[-1]()


def _hear_console() -> None:
    """Have a console that closes end the program like a polite kill. The system calls back in a
    thread of its own, and ends the program as soon as that returns."""
    import ctypes

    def closing(event: int) -> bool:
        if event not in _CLOSING:
            return False
        _thread.interrupt_main(signal.SIGTERM)
        time.sleep(GRACE)
        return True

    windll = getattr(ctypes, "windll", None)
    if windll is not None and not _kept:
        # On 32-bit Windows a callback of the system has a calling convention of its own.
        kind = getattr(ctypes, "WINFUNCTYPE", ctypes.CFUNCTYPE)(ctypes.c_int, ctypes.c_uint)
        _kept.append(kind(closing))
        windll.kernel32.SetConsoleCtrlHandler(_kept[0], True)


def on_rest(handler: Callable[[], None]) -> None:
    """Call this when Ctrl-Z asks the program to rest, where a system has that."""
    number = getattr(signal, "SIGTSTP", None)
    with contextlib.suppress(ValueError):
        if number is not None:
            signal.signal(number, lambda *_: handler())


def rest() -> None:
    """Rest until somebody wakes the program, where a system has that."""
    number = getattr(signal, "SIGSTOP", None)
    if number is not None:
        os.kill(os.getpid(), number)


#: Its name where no function tells it: the console of a Windows program.
CONSOLE = "CONIN$"


def _name() -> str:
    return os.ctermid() if hasattr(os, "ctermid") else CONSOLE


def has_keyboard() -> bool:
    """Whether there is a terminal to type at: standard input, or the one behind a pipe."""
    if sys.stdin is not None and sys.stdin.isatty():
        return True
    with suppress(OSError):
        os.close(os.open(_name(), os.O_RDWR))
        return True
    return False


@contextmanager
def keyboard() -> Iterator[None]:
    """Put the terminal in the place of standard input, until it is left. Whoever reads a pipe there
    has a descriptor of its own by then."""
    if sys.stdin is not None and sys.stdin.isatty():
        yield
        return
    kept, terminal = os.dup(0), os.open(_name(), os.O_RDWR)
    os.dup2(terminal, 0)
    os.close(terminal)
    try:
        yield
    finally:
        os.dup2(kept, 0)
        os.close(kept)


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
