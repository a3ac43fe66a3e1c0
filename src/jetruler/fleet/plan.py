"""Which logs there are, and where the result of each goes."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass
from os import PathLike
from pathlib import Path

from ..files import one_name, same_file
from ..samples.source import PACKED, SUFFIXES, LogError, kind_of

_WILD = "*?["


@dataclass(frozen=True)
class Task:
    """One log, its result, and where its events go, if they are wanted."""

    log: Path
    out: Path
    events: Path | None = None

    @property
    def bytes(self) -> int:
        """How large the log is; 0 if it has gone."""
        try:
            return self.log.stat().st_size
        except OSError:
            return 0


def is_many(log: str | PathLike[str], out: str | PathLike[str]) -> bool:
    """Whether a log's name stands for many (a folder, a pattern), or its output for a folder."""
    if str(log) == "-":
        return False
    pattern = _is_pattern(str(log)) and not Path(log).exists()
    return pattern or Path(log).is_dir() or (str(out) != "-" and _is_folder(out))


def planned(
    logs: Iterable[str | PathLike[str]],
    out: str | PathLike[str],
    *,
    out_kind: str | None = None,
    events: str | PathLike[str] | None = None,
) -> list[Task]:
    """A task a log, sorted by name. logs: files, folders, and patterns with * and **.

    out: a folder; results stand in it as the logs stand below the folder they have in common.
    Raises `LogError` where there is no log, where two results would have the same name, and for
    an output that is a file.
    """
    for folder in (out, events):
        if folder is not None and (str(folder) == "-" or Path(folder).is_file()):
            raise LogError(f"{folder}: many logs need a folder for their results")
        if folder is not None and kind_of(folder) and not _is_folder(folder):
            raise LogError(
                f"{folder}: many logs need a folder for their results, and this is the name of "
                f"one; {folder}/ makes it a folder's"
            )
    found: dict[str, Path] = {}
    bases: list[Path] = []
    for given in logs:
        files, base = _found(str(given), Path(out).absolute())
        found = {one_name(log): log for log in files} | found
        bases.append(base)
    if not found:
        raise LogError("no log is named; name files, folders or a pattern")
    try:
        top = Path(os.path.commonpath(bases))
    except ValueError:  # of Windows
        tops = ", ".join(sorted({str(base) for base in bases}))
        raise LogError(
            f"{tops}: these stand on different drives, so that the results have no folder in "
            "common; convert the logs of each drive by themselves"
        ) from None
    tasks = []
    taken: dict[str, Path] = {}
    for log in sorted(found.values()):
        place = log.relative_to(top)
        result = Path(out).absolute() / _renamed(place, out_kind)
        if same_file(result, log):
            raise LogError(f"{log}: its result would stand in its own place; name another folder")
        if (name := one_name(result)) in taken:
            raise LogError(f"{log}: its result would stand where that of {taken[name]} stands")
        taken[name] = log
        told = None if events is None else Path(events).absolute() / _renamed(place, "csv")
        tasks.append(Task(log, result, told))
    return tasks


def _found(given: str, out: Path) -> tuple[list[Path], Path]:
    """The logs that a name stands for, and the folder that their tree starts from."""
    path = Path(given).absolute()
    if path.is_dir():
        if same_file(path, out):
            raise LogError(f"{given}: the results would stand among the logs; name another folder")
        files = [p for p in sorted(path.rglob("*")) if _is_log(p, path) and not _below(out, p)]
        if not files:
            ends = ", ".join(SUFFIXES)
            raise LogError(f"{given}: no log is in this folder; names that end in {ends} are logs")
        return files, path
    if not path.exists() and _is_pattern(given):
        base = _fixed_part(given)
        names = base.glob(str(path.relative_to(base)))
        files = [p for p in sorted(names) if p.is_file() and not _below(out, p)]
        if not files:
            raise LogError(f"{given}: no file matches this pattern")
        return files, base
    if not path.exists():
        raise LogError(f"{given}: there is no such file; a log is wanted")
    return [path], path.parent


def _below(folder: Path, log: Path) -> bool:
    return any(one_name(parent) == one_name(folder) for parent in log.parents)


def _is_pattern(name: str) -> bool:
    return any(sign in name for sign in _WILD)


def _is_folder(out: str | PathLike[str]) -> bool:
    return str(out).endswith(("/", os.sep)) or Path(out).is_dir()


def _is_log(path: Path, top: Path) -> bool:
    hidden = any(part.startswith(".") for part in path.relative_to(top).parts)
    return not hidden and kind_of(path) is not None and path.is_file()


def _fixed_part(pattern: str) -> Path:
    """The folder before the first wildcard."""
    parts = Path(pattern).absolute().parts
    wild = next(i for i, part in enumerate(parts) if _is_pattern(part))
    return Path(*parts[:wild])


def _renamed(place: Path, kind: str | None) -> Path:
    """A result's name: the log's, or with the ending of another format."""
    if kind is None or kind_of(place) == kind:
        return place
    name, packing = place.name, ""
    for end in PACKED:
        if name.lower().endswith(end):
            name, packing = name[: -len(end)], end
    known = Path(name).suffix.lower() in SUFFIXES
    stem = Path(name).stem if known else name
    return place.with_name(f"{stem}.{kind}{'' if kind == 'parquet' else packing}")
