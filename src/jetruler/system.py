"""What operating systems do in their own ways: signals, processes, memory, terminals."""

from __future__ import annotations

import _thread
import contextlib
import ctypes
import os
import signal
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from typing import Any

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


#: Below this many bytes of addresses it pays to be modest.
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


#: Signals that end a program in order: a polite kill, a terminal that closes, a quit by key,
#: Ctrl-Break, which only Windows has; and all others that would end it at once. Those of a fault of
#: the machine (SEGV, BUS, FPE, ILL) are left to the system: after them nothing can be trusted.
ENDING = (
    *("SIGTERM", "SIGHUP", "SIGQUIT", "SIGBREAK", "SIGABRT", "SIGUSR1", "SIGUSR2", "SIGALRM"),
    *("SIGVTALRM", "SIGPROF", "SIGXCPU", "SIGXFSZ", "SIGPOLL", "SIGPWR", "SIGSTKFLT", "SIGSYS"),
    *("SIGTRAP", "SIGEMT", "SIGLOST"),
)


def ending_signals() -> list[int]:
    """Their numbers, and those of the signals without a name, as far as this system has them."""
    known = [int(getattr(signal, name)) for name in ENDING if hasattr(signal, name)]
    first, last = (getattr(signal, name, None) for name in ("SIGRTMIN", "SIGRTMAX"))
    return known if first is None or last is None else [*known, *range(first, last + 1)]


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
    known = dict.fromkeys(ending_signals(), handler) | {signal.SIGINT: signal.default_int_handler}
    for number, handle in known.items():
        # Not in the main thread; or one that the system keeps for itself.
        with contextlib.suppress(ValueError, OSError):
            if signal.getsignal(number) is not signal.SIG_IGN:
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
