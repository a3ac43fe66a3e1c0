"""Names of files: what Windows keeps for itself, and what is one file under two names."""

from __future__ import annotations

import contextlib
import os
from functools import lru_cache
from itertools import islice
from pathlib import Path

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
    if wrong := next((c for c in name if c in _FORBIDDEN or ord(c) < 32 or c == ":"), ""):
        return f"no name on Windows has the character {wrong!r}"
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
