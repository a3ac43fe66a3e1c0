"""Another operating system in miniature: Python runs this first where PYTHONPATH names its folder.

JETRULER_SYSTEM is "windows" or "macos". Only the product is deceived: what it imports lacks what
that system lacks; what the tests and the libraries import is as it is.
"""

from __future__ import annotations

import builtins
import contextlib
import ctypes
import errno
import io
import os
import select
import signal
import socket
import sys
from pathlib import Path
from types import ModuleType, SimpleNamespace
from typing import Any

SYSTEM = os.environ.get("JETRULER_SYSTEM", "")

#: Modules that Windows has not.
HIDDEN = ("termios", "tty", "fcntl", "pty", "resource", "pwd", "grp", "curses", "readline")
NO_SOCKET = "an operation was attempted on something that is not a socket"
OPEN = "The process cannot access the file because it is being used by another process"
STILL_ACTIVE = 259


def is_ours(depth: int) -> bool:
    """Whether the product called what called this."""
    return str(sys._getframe(depth + 1).f_globals.get("__name__", "")).startswith("jetruler")


class Lacking(ModuleType):
    """A module as the other system has it: some names are gone, some are others."""

    def __init__(self, real: ModuleType, gone: tuple[str, ...], **others: Any) -> None:
        super().__init__(real.__name__)
        self._real, self._gone, self._others = real, gone, others

    def __getattr__(self, name: str) -> Any:
        if name in self._gone:
            raise AttributeError(f"module {self.__name__!r} of this system has no {name!r}")
        return self._others[name] if name in self._others else getattr(self._real, name)


def sockets_only(reading: Any, writing: Any, failing: Any, wait: float | None = None) -> Any:
    """`select`, which takes nothing but sockets."""
    if not all(isinstance(one, socket.socket) for one in (*reading, *writing, *failing)):
        raise OSError(10038, NO_SOCKET)
    return select.select(reading, writing, failing, wait)


def kill(process: int, number: int) -> None:
    """To send a signal to a process ends it, whatever the signal."""
    raise AssertionError(f"os.kill({process}, {number}) would end the process")


def spawned(method: str | None = None) -> Any:
    """Processes can only be spawned."""
    import multiprocessing

    if method != "spawn":
        raise ValueError(f"cannot find context for {method!r}")
    return multiprocessing.get_context("spawn")


def is_open(path: Any) -> bool:
    """Whether this process holds a file open."""
    wanted = os.path.realpath(path)
    for link in Path("/proc/self/fd").iterdir():
        with contextlib.suppress(OSError):
            if str(link.readlink()) == wanted:
                return True
    return False


def guarded(call: Any, watched: int) -> Any:
    """A call that the other system refuses while one of its first arguments is an open file."""

    def refuses(*args: Any, **options: Any) -> Any:
        ours = any(is_ours(depth) for depth in (1, 2))
        if ours and any(is_open(path) for path in args[:watched]):
            raise PermissionError(errno.EACCES, OPEN, str(args[0]))
        return call(*args, **options)

    return refuses


def as_stored(path: Any) -> Any:
    """The name under which a disk that folds case has this file, if it has it."""
    if not isinstance(path, str | Path) or os.path.lexists(path):
        return path
    parent, name = os.path.split(path)
    if parent == str(path):  # the root, or nothing
        return path
    parent = as_stored(parent)
    with contextlib.suppress(OSError):
        for found in os.listdir(parent or "."):  # noqa: PTH208
            if found.casefold() == name.casefold():
                return type(path)(os.path.join(parent, found))  # noqa: PTH118
    return path


def folded(call: Any, paths: int) -> Any:
    """A call whose first arguments are paths on such a disk."""

    def finds(*args: Any, **options: Any) -> Any:
        return call(*(as_stored(arg) for arg in args[:paths]), *args[paths:], **options)

    return finds


class Kernel:
    """The few calls of the system's library that the product makes."""

    mode = 0
    closing: Any = None

    def GetStdHandle(self, which: int) -> int:  # noqa: N802
        return which

    def GetConsoleMode(self, handle: int, mode: Any) -> int:  # noqa: N802
        mode._obj.value = self.mode
        return 1

    def SetConsoleMode(self, handle: int, mode: int) -> int:  # noqa: N802
        self.mode = mode
        return 1

    def SetConsoleCtrlHandler(self, callback: Any, add: bool) -> int:  # noqa: N802
        self.closing = callback
        return 1

    def OpenProcess(self, access: int, inherit: bool, process: int) -> int:  # noqa: N802
        try:
            os.kill(process, 0)
        except (ProcessLookupError, OverflowError):
            return 0
        return process

    def GetExitCodeProcess(self, handle: int, code: Any) -> int:  # noqa: N802
        code._obj.value = STILL_ACTIVE
        return 1

    def CloseHandle(self, handle: int) -> int:  # noqa: N802
        return 1


class Console(ModuleType):
    """`msvcrt`: the keys of a console, which come from the terminal that there is."""

    def kbhit(self) -> bool:
        import termios
        import tty

        tty.setcbreak(0, termios.TCSANOW)
        return bool(select.select([0], [], [], 0)[0])

    def getwch(self) -> str:
        return os.read(0, 1).decode("latin-1")


def install(system: str) -> None:
    """Have the product import what this system has."""
    real_import = builtins.__import__
    modules: dict[str, ModuleType] = {}
    hidden: tuple[str, ...] = ()
    gone: tuple[str, ...]
    import multiprocessing

    modules["multiprocessing"] = Lacking(multiprocessing, (), get_context=spawned)
    if system == "windows":
        hidden = HIDDEN
        gone = ("SIGHUP", "SIGQUIT", "SIGTSTP", "SIGSTOP", "SIGKILL", "SIGALRM", "pthread_kill")
        modules["signal"] = Lacking(signal, gone, SIGBREAK=signal.SIGUSR1)
        modules["select"] = Lacking(select, ("poll", "epoll"), select=sockets_only)
        gone = ("openpty", "ttyname", "fork", "getuid", "mkfifo", "killpg", "uname", "posix_spawn")
        modules["os"] = Lacking(os, gone, name="nt", kill=kill)
        os.replace, os.rename = guarded(os.replace, 2), guarded(os.rename, 2)
        os.unlink = os.remove = guarded(os.unlink, 1)
        ctypes.windll = SimpleNamespace(kernel32=Kernel())  # type: ignore[attr-defined]
        modules["msvcrt"] = Console("msvcrt")

    if system == "macos":
        os.stat, os.unlink, os.replace = (
            folded(os.stat, 1),
            folded(os.unlink, 1),
            folded(os.replace, 2),
        )
        io.open = builtins.open = folded(io.open, 1)

    def foreign(
        name: str, globals: Any = None, locals: Any = None, fromlist: Any = (), level: int = 0
    ) -> ModuleType:
        importer = str((globals or {}).get("__name__", ""))
        if level == 0 and importer.partition(".")[0] == "jetruler":
            if name.partition(".")[0] in hidden:
                raise ModuleNotFoundError(f"No module named {name!r}", name=name)
            if name in modules:
                return modules[name]
        return real_import(name, globals, locals, fromlist, level)

    builtins.__import__ = foreign


if SYSTEM:
    install(SYSTEM)
