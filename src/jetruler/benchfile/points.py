"""Points of a table law from a CSV file that the bench file names."""

from __future__ import annotations

import csv
from pathlib import Path

from ..core.error_types import ParameterError
from ..files import text_of_file


def read_points(folder: Path, name: str) -> list[list[float]]:
    """The first two columns of a CSV file (comma or semicolon), as [x, y] pairs.

    The name stands relative to the bench file. A first line without numbers is a header; blank
    lines and lines that start with # are left out. Raises `ParameterError`.
    """
    path = folder / name
    try:
        text = text_of_file(path).removeprefix("\ufeff")
    except (OSError, ValueError) as error:  # a name with a zero in it is a ValueError
        no_text = isinstance(error, UnicodeDecodeError)
        reason = "it is no text" if no_text else getattr(error, "strerror", None) or str(error)
        raise ParameterError("points", name, f"{path} cannot be read: {reason}") from None
    lines = [line for line in text.splitlines() if line.strip() and not line.startswith("#")]
    delimiter = ";" if lines and ";" in lines[0] else ","
    points: list[list[float]] = []
    for i, row in enumerate(csv.reader(lines, delimiter=delimiter)):
        try:
            points.append([float(row[0]), float(row[1])])
        except (ValueError, IndexError):
            if i:
                shown = delimiter.join(row)
                right = f"{path}: two numbers a line are right; found {shown!r}"
                raise ParameterError("points", name, right) from None
    return points
