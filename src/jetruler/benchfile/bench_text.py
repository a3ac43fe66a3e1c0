"""A bench file as text: read, and put in the place of the one that was there."""

from __future__ import annotations

import os
from codecs import BOM_UTF8
from pathlib import Path

from ..files import appear, part_beside
from .load import BenchError


def read_text(path: str) -> str:
    """Return a bench file as text, with plain line ends. Raises `BenchError`."""
    try:
        return Path(path).read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is no text"
        raise BenchError(path, [f"cannot be read: {reason}"]) from None


def replace_file(path: str, text: str) -> None:
    """Write beside the file, with its line ends and its mark of UTF-8, then take its place. Raises
    `BenchError`."""
    target = Path(path).resolve()
    part = part_beside(target)
    try:
        if not os.access(target, os.W_OK):
            raise PermissionError(13, "it is read-only")
        was = target.read_bytes()
        ends = text.replace("\n", "\r\n") if b"\r\n" in was else text
        part.write_bytes(BOM_UTF8 * was.startswith(BOM_UTF8) + ends.encode())
        appear(part, target)
    except OSError as error:
        raise BenchError(path, [f"cannot be written: {error.strerror}"]) from None
    finally:
        part.unlink(missing_ok=True)
