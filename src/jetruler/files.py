"""Files that are written: none destroys an input or another output, none is left half-written."""

from __future__ import annotations

import glob
import os
from collections.abc import Mapping
from os import PathLike
from pathlib import Path

from .core.error_types import JetRulerError
from .system.file_names import folds_case
from .system.processes import is_running

#: Bytes of a file that was written by hand, or of a table of points.
LARGEST = 2**24

File = str | PathLike[str] | None


def keep_apart(outputs: Mapping[str, File], inputs: Mapping[str, File]) -> None:
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
    return one_name(first) == one_name(second) if _alike(first, second) else first == second


def _alike(one: Path, other: Path) -> bool:
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


def part_beside(final: Path) -> Path:
    """A temporary name beside a file, unlike any other; what killed runs left there is removed."""
    start = final.name.encode()[:_KEPT].decode("utf-8", "ignore")
    for left in final.parent.glob(f".{glob.escape(start)}.*.part"):
        maker = left.name.removesuffix(".part").rpartition(".")[2].partition("-")[0]
        if maker.isdigit() and int(maker) != os.getpid() and not is_running(int(maker)):
            left.unlink(missing_ok=True)
    return final.with_name(f".{start}.{os.getpid()}-{os.urandom(4).hex()}.part")


def appear(part: Path, final: Path) -> None:
    """Put a finished file in its place. Raises `PermissionError`: some systems replace no file that
    a program holds open."""
    try:
        if final.exists():
            part.chmod(final.stat().st_mode)
        part.replace(final)
    except PermissionError as error:
        why = "another program holds it open, or it is protected; the old file is as it was"
        raise PermissionError(error.errno, why, str(final)) from None
