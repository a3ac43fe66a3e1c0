"""Changing a bench file in place: comments, order and everything else stay as they are."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import tomlkit

from .load import BenchError, parse_bench


def write_marks(path: str, channel: str, marks: tuple[tuple[float, float], ...]) -> tuple[str, str]:
    """Put marks into the first line law of a channel; the file is replaced whole or not at all.

    Returns the line as it was and as it is. Raises `BenchError` for a channel without such a
    law, or a file that cannot be written.
    """
    text = Path(path).read_text("utf-8")
    document = tomlkit.parse(text)
    tables: Any = document.get("channel", {})
    laws: Any = tables.get(channel, {}).get("laws", [])
    law = next((law for law in laws if law.get("law") == "line" and "marks" in law), None)
    if law is None:
        raise BenchError(path, [f"channel.{channel} has no line with marks to put these into"])
    before = f"marks = {law['marks'].as_string()}"
    pairs = ", ".join(f"[{raw:g}, {true:g}]" for raw, true in marks)
    law["marks"] = tomlkit.parse(f"marks = [{pairs}]")["marks"]
    changed = tomlkit.dumps(document)
    parse_bench(changed, path, Path(path).parent)
    replace_file(path, changed)
    return before, f"marks = [{pairs}]"


def replace_file(path: str, text: str) -> None:
    """Write beside the file, then take its place. Raises `BenchError`."""
    target = Path(path).resolve()
    part = target.with_name(f".{target.name}.{os.getpid()}.part")
    try:
        if not os.access(target, os.W_OK):
            raise PermissionError(13, "it is read-only")
        part.write_text(text, encoding="utf-8")
        part.chmod(target.stat().st_mode)
        part.replace(target)
    except OSError as error:
        raise BenchError(path, [f"cannot be written: {error.strerror}"]) from None
    finally:
        part.unlink(missing_ok=True)
