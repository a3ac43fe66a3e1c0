"""Processors, and other programs on this computer."""

from __future__ import annotations

import os
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
