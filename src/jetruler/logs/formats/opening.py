"""Opening a log in whatever format it is written."""

from __future__ import annotations

from os import PathLike
from pathlib import Path

from ...system.file_names import reachable
from ..reader import LogReader
from ..source import LogError, LogFormat, LogSource, kind_of

PARQUET_MAGIC = b"PAR1"

#: Bytes that are read at once, and rows of a typed log, where nothing else is said.
BLOCK_BYTES = 4 * 2**20


def open_log(
    path: str | PathLike[str], form: LogFormat | None = None, block_bytes: int = BLOCK_BYTES
) -> LogReader:
    """A log's reader, by `form.kind`, else by its first bytes, else by what its name ends in; CSV
    where nothing shows it. "-" is standard input.

    block_bytes: about how much is read at once. Raises `LogError`.
    """
    form = form or LogFormat()
    path = path if str(path) == "-" else reachable(Path(path))
    kind = form.kind or ("parquet" if _starts_as_parquet(path) else kind_of(path))
    if kind == "parquet":
        if str(path) == "-":
            raise LogError("standard input: Parquet is read from its end, so it needs a file")
        from .parquet_log import ParquetReader

        return ParquetReader(Path(path), form, block_bytes)
    source = LogSource(path)
    try:
        if kind == "jsonl":
            from .json_log import JsonReader

            return JsonReader(source, form, block_bytes)
        from .csv_log import CsvReader

        return CsvReader(source, form, block_bytes)
    except BaseException as error:
        source.__exit__(type(error), error, error.__traceback__)
        raise


def _starts_as_parquet(path: str | PathLike[str]) -> bool:
    if str(path) == "-" or not Path(path).is_file():
        return False
    try:
        with Path(path).open("rb") as file:
            return file.read(4) == PARQUET_MAGIC
    except OSError:
        return False  # whoever opens it in earnest says why
