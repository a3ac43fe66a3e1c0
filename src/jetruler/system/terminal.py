"""Single keys and escape sequences of a terminal: of POSIX, and of a Windows console."""

from __future__ import annotations

import os
import select
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, Protocol

#: What stands for the end of the keyboard: Ctrl-D.
ENDED = "\x04"

#: Keys that send more than one sign: on POSIX behind Esc, in a console behind "\x00" or "\xe0".
_ESCAPES = {"[A": "up", "[B": "down", "[C": "right", "[D": "left"}
_ESCAPES |= {"OA": "up", "OB": "down", "OC": "right", "OD": "left"}
_SCAN_CODES = {"H": "up", "P": "down", "M": "right", "K": "left"}

_STDOUT, _ESCAPES_ON = -11, 4


class Keys(Protocol):
    """The keyboard, key by key."""

    def pressed(self) -> list[str]:
        """The keys since the last call: signs, and "up", "down", "left", "right". Never waits."""


class _PosixKeys:
    def pressed(self) -> list[str]:
        found: list[str] = []
        while select.select([0], [], [], 0)[0]:
            data = os.read(0, 256)
            if not data:
                return [*found, ENDED]
            found += _named(data.decode("utf-8", "replace"))
        return found


class _ConsoleKeys:
    def __init__(self, msvcrt: Any) -> None:
        self._msvcrt = msvcrt

    def pressed(self) -> list[str]:
        found: list[str] = []
        while self._msvcrt.kbhit():
            sign = self._msvcrt.getwch()
            if sign in ("\x00", "\xe0"):
                sign = _SCAN_CODES.get(self._msvcrt.getwch(), "")
            found.append({"\x1a": ENDED, "\x03": ENDED}.get(sign, sign))
        return [sign for sign in found if sign]


def _named(signs: str) -> list[str]:
    keys: list[str] = []
    at = 0
    while at < len(signs):
        name = _ESCAPES.get(signs[at + 1 : at + 3]) if signs[at] == "\x1b" else None
        keys.append(name or signs[at])
        at += 3 if name else 1
    return keys


@contextmanager
def keys() -> Iterator[Keys]:
    """Single keys instead of lines, until it is left."""
    try:
        import termios
        import tty
    except ImportError:
        import msvcrt

        yield _ConsoleKeys(msvcrt)
        return
    before = termios.tcgetattr(0)
    tty.setcbreak(0, termios.TCSANOW)
    try:
        yield _PosixKeys()
    finally:
        termios.tcsetattr(0, termios.TCSANOW, before)  # never wait for a reader


def allow_escapes() -> None:
    """Have a Windows console understand escape sequences; every other terminal does."""
    import ctypes

    windll = getattr(ctypes, "windll", None)
    if windll is None:
        return
    kernel, mode = windll.kernel32, ctypes.c_ulong()
    handle = kernel.GetStdHandle(_STDOUT)
    if kernel.GetConsoleMode(handle, ctypes.byref(mode)):
        kernel.SetConsoleMode(handle, mode.value | _ESCAPES_ON)
