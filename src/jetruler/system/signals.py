"""What ends a program from outside, and what rests it: signals, and a console that closes."""

from __future__ import annotations

import _thread
import contextlib
import os
import signal
import time
from collections.abc import Callable
from typing import Any

#: Signals that end a program in order: a polite kill, a terminal that closes, a quit by key, and
#: Ctrl-Break, which only Windows has.
ENDING = ("SIGTERM", "SIGHUP", "SIGQUIT", "SIGBREAK")

#: Events of a Windows console that end its programs: it closes, somebody logs off, it shuts down.
_CLOSING = (2, 5, 6)
#: Seconds that Windows leaves a program when its console closes.
GRACE = 5.0

_kept: list[Any] = []  # a callback that Python forgets would crash the system's thread


def on_ending(handler: Callable[[int, Any], Any]) -> None:
    """Call this in the main thread when the program is asked to end. What whoever started it
    ignores (as `nohup` does) stays ignored."""
    for name in ENDING:
        number = getattr(signal, name, None)
        with contextlib.suppress(ValueError):  # not in the main thread
            if number is not None and signal.getsignal(number) is not signal.SIG_IGN:
                signal.signal(number, handler)
    if hasattr(signal, "SIGBREAK"):
        _hear_console()


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
