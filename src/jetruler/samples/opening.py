"""Opening a log in whatever format and form it is written."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from os import PathLike
from pathlib import Path

from ..core.model.log_format import LogFormat
from ..system.file_names import reachable
from .head import LONGEST_NAME, Above, Head, find_head, head_lines
from .reader import LogReader
from .source import Log, LogError, LogSource, kind_of, name_of
from .text_log import BlockReader, TextReader

PARQUET_MAGIC = b"PAR1"

#: Bytes that are read at once, and rows of a typed log, where nothing else is said.
BLOCK_BYTES = 4 * 2**20


def open_log(
    path: Log,
    form: LogFormat | None = None,
    block_bytes: int = BLOCK_BYTES,
    wanted: Sequence[str | int] = (),
) -> LogReader:
    """A log's reader, by `form`, else by its first bytes and lines and what its name ends in. "-"
    is standard input.

    block_bytes: about how much is read at once. wanted: columns that a bench asks for. Raises
    `LogError`.
    """
    form = form or LogFormat()
    if isinstance(path, str | PathLike) and str(path) != "-":
        path = reachable(Path(path))
    kind = form.format or ("parquet" if _starts_as_parquet(path) else kind_of(path))
    if kind == "parquet":
        if not isinstance(path, str | PathLike) or str(path) == "-":
            raise LogError(f"{name_of(path)}: Parquet is read from its end, so it needs a file")
        from .parquet_log import ParquetReader

        return ParquetReader(Path(path), form, block_bytes)
    source = LogSource(path)
    try:
        known = replace(form, format=kind) if kind == "jsonl" else form
        return _text_reader(source, known, wanted, source.blocks(block_bytes))
    except BaseException as error:
        source.__exit__(type(error), error, error.__traceback__)
        raise


def _text_reader(
    source: LogSource,
    form: LogFormat,
    wanted: Sequence[str | int],
    following: Iterator[tuple[bytes, bool]],
) -> TextReader:
    """The reader of a log of text, by its first lines."""
    above = Above(form.comment)
    while True:
        block, last = next(following, (b"", True))
        head = find_head(head_lines(block), form, wanted)
        if head is not None:
            break
        if not block:
            raise LogError(f"{source.name}: the log is empty")
        above.add(block.decode("utf-8", "surrogateescape").split("\n")[:-1])
    longest = max(len(name) for name in head.shape.columns)
    if longest > LONGEST_NAME:
        right = "is no line of a CSV log"
        raise LogError(f"{source.name}: the first line, {longest} bytes long, {right}")
    if head.shape.kind == "jsonl" and not head.is_record:
        from .json_log import fields_of

        head = replace(head, shape=replace(head.shape, names=fields_of(block)))
    elif form.format == "jsonl" and head.shape.kind != "jsonl":
        raise LogError(
            f"{source.name}: the first lines hold no JSON record; a record a line is wanted, "
            'like {"time_s": 0.2, "ch0": 1880}'
        )
    above.add(head.above, head.header)
    rest = block.split(b"\n", head.begin)
    reader = TextReader(
        source,
        form,
        blocks_of(head, form),
        following=following,
        held=(rest[-1] if len(rest) > head.begin else b"", last),
        line=above.lines + 1,
    )
    reader.first_line = rest[-1][:60].split(b"\n")[0].decode("utf-8", "replace").strip()
    reader.crlf = block[: block.find(b"\n") + 1].endswith(b"\r\n")
    above.comments -= head.is_record
    reader.comments, reader.blank_lines = above.comments, above.blank
    reader.noise.join(above.noise)
    return reader


def blocks_of(head: Head, form: LogFormat) -> BlockReader:
    """What reads lines of a form, from a file or a stream."""
    shape = head.shape
    blocks: BlockReader
    if shape.kind == "jsonl":
        from .json_log import JsonBlocks

        blocks = JsonBlocks(shape, form)
    elif shape.plain or (shape.delimiter == " " and not shape.stamped and not shape.brackets):
        from .csv_log import CsvBlocks

        blocks = CsvBlocks(shape, form, sorts=head.sorts, blank_is_row=head.blank_is_row)
    else:
        from .line_log import LineBlocks

        blocks = LineBlocks(shape, form)
    if head.is_record:
        from .record_log import RecordBlocks

        blocks = RecordBlocks(blocks)
    return blocks


def _starts_as_parquet(path: Log) -> bool:
    if not isinstance(path, str | PathLike) or str(path) == "-" or not Path(path).is_file():
        return False
    try:
        with Path(path).open("rb") as file:
            return file.read(4) == PARQUET_MAGIC
    except OSError:
        return False  # whoever opens it in earnest says why
