"""The first lines of a log or a stream: the form that they agree on, and where samples begin."""

from __future__ import annotations

import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from ..core.model.log_format import LogFormat
from .shapes import Noise, Shape, is_data, is_value, names_in, shape_of, split
from .source import ColumnError

#: Lines with something in them that show the form, and the bytes in which they stand.
HEAD_LINES, HEAD_BYTES = 256, 48 * 1024
#: A column's name is shorter than this.
LONGEST_NAME = 2**17

#: What a record of a stream begins with, and what ends a line that was not whole.
RECORD, CUT = "# record of a stream: time of arrival, line", " # not whole"


#: What a line that nobody can read is answered with.
EXPECTED = (
    "numbers with one sign between, name=value, JSON, or numbers between words are right; "
    "--format, --delimiter and --columns say which"
)


@dataclass(frozen=True)
class Head:
    """What the first lines show.

    shape: the form of all lines. begin: the line, from 0, with the first sample. header: that with
    the names, None without one. above: the lines before the first sample. sorts: whether lines
    without a value are no samples. blank_is_row: whether an empty line is a sample.
    """

    shape: Shape
    begin: int
    header: int | None = None
    above: Sequence[str] = ()
    sorts: bool = True
    blank_is_row: bool = True
    is_record: bool = False
    agreed: bool = False
    """Whether two lines agree on it."""


@dataclass
class Above:
    """What stands above the first sample."""

    comment: str
    lines: int = 0
    comments: int = 0
    blank: int = 0
    noise: Noise = field(default_factory=Noise)

    def add(self, lines: Sequence[str], header: int | None = None) -> None:
        """Some more lines; header: the one that has names."""
        for place, line in enumerate(lines):
            text = line.strip()
            self.comments += text.startswith(self.comment)
            self.blank += not text
            if text and not text.startswith(self.comment) and place != header:
                self.noise.add("other text", text)
        self.lines += len(lines)


def head_lines(block: bytes) -> list[str]:
    """The first lines of a block of whole lines."""
    part = block[:HEAD_BYTES]
    if len(block) > HEAD_BYTES:
        end = part.rfind(b"\n") + 1 or block.find(b"\n") + 1 or len(block)
        part = block[:end]
    return part.decode("utf-8", "surrogateescape").removesuffix("\n").split("\n")


def without_stamp(line: str) -> str:
    """A line of a record, without its time of arrival."""
    stamp, _, rest = line.partition(",")
    return rest if stamp.endswith("Z") and not line.startswith("#") else line


def find_head(
    lines: Sequence[str], form: LogFormat, wanted: Sequence[str | int] = ()
) -> Head | None:
    """The form of the first lines that agree; of the first one, if none do; None where no line has
    anything in it. wanted: the columns that a bench asks for."""
    is_record = bool(lines) and lines[0].startswith(RECORD)
    if is_record:
        lines = [without_stamp(line) for line in lines]
        lines = ["" if line.rstrip("\r").endswith(CUT) else line for line in lines]
    content = [
        i for i, line in enumerate(lines) if line.strip() and not line.startswith(form.comment)
    ][:HEAD_LINES]
    if not content:
        return None
    shapes = {i: shape for i in content if (shape := shape_of(lines[i], form)) is not None}
    head = _head(lines, content, shapes, form, wanted)
    blanks = sum(not line.strip() for line in lines[head.begin : content[-1]])
    after = sum(i >= head.begin for i in content)
    return replace(
        head,
        above=lines[: head.begin],
        is_record=is_record,
        blank_is_row=blanks < 0.8 * max(1, after - 1),
    )


def _head(
    lines: Sequence[str],
    content: Sequence[int],
    shapes: dict[int, Shape],
    form: LogFormat,
    wanted: Sequence[str | int],
) -> Head:
    if form.columns is not None:
        right = {i: s for i, s in shapes.items() if s.width == len(form.columns)}
        shapes = right or shapes
    places = list(shapes)
    pairs = itertools.pairwise(places)
    start = next((i for i, j in pairs if shapes[i].agrees(shapes[j])), min(places, default=-1))
    if start < 0:
        asked = _asked(lines, content[0], form, wanted)
        return _by_first_line(lines, content[0], form, asked)
    shape = shapes[start]
    alike = [i for i in places if shapes[i].agrees(shape)]
    if shape.kind in ("pairs", "jsonl"):
        names = dict.fromkeys(name for i in alike for name in shapes[i].names)
        shape = replace(shape, names=tuple(names))
    found = Head(shape, start, agreed=len(alike) > 1)
    if shape.kind not in ("csv", "words"):
        return found
    if form.columns is not None:
        known = _with_header(lines, content, found, [lines[i] for i in alike], form, wanted)
        if known.header is not None and _asked(lines, known.header, form, wanted):
            return known  # a log with its own header
        if len(form.columns) != shape.width:
            cells = f"{shape.width} cells stand in a line, as in {lines[start].strip()[:60]!r}"
            raise ColumnError("columns", f"found {len(form.columns)} names; {cells}")
        return replace(found, shape=replace(shape, names=form.columns))
    if shape.kind == "words" and found.agreed:
        return found
    return _with_header(lines, content, found, [lines[i] for i in alike], form, wanted)


def _with_header(
    lines: Sequence[str],
    content: Sequence[int],
    found: Head,
    alike: Sequence[str],
    form: LogFormat,
    wanted: Sequence[str | int],
) -> Head:
    """The form with the names that stand above the first sample, if some do."""
    shape, start, first = found.shape, found.begin, content[0]
    if form.header is False:
        return found
    if form.header is True or (first == start and _has_names(alike, shape, form)):
        return _by_first_line(lines, first, form, True, shape)
    for i in reversed([i for i in content if i < start]):
        names = names_in(lines[i], shape, form)
        asked = _asked(lines, i, form, wanted)
        if asked and shape.width == 1 and names is None:
            names = _names(lines[i], "\0")
        if names is not None and (asked or i == max(c for c in content if c < start)):
            named = replace(shape, names=names, header=True)
            begin = next(j for j in range(i + 1, start + 1) if j == start or lines[j].strip())
            return replace(found, shape=named, begin=begin, header=i)
    if not found.agreed and first < start and _sign(lines[first], form) in lines[first]:
        return _by_first_line(lines, first, form, True)
    return found


def _has_names(alike: Sequence[str], shape: Shape, form: LogFormat) -> bool:
    """Whether the first of some lines has names where the others have values."""
    first, *rest = (split(line, shape.delimiter) for line in alike)
    if shape.stamped or shape.brackets or is_data(first, form.decimal):
        return False
    if not rest:
        return True
    values = [all(is_value(row[i], form.decimal) for row in rest) for i in range(len(first))]
    return any(
        known and re.search(r"[^\W\d_]", cell) and not is_value(cell, form.decimal)
        for known, cell in zip(values, first, strict=True)
    )


def _asked(lines: Sequence[str], place: int, form: LogFormat, wanted: Sequence[str | int]) -> bool:
    """Whether a line names a column that is wanted."""
    names = _names(lines[place], _sign(lines[place], form))
    return any(column in names for column in wanted if isinstance(column, str))


def _names(line: str, sign: str) -> tuple[str, ...]:
    return tuple(cell.strip().strip('"').strip() for cell in split(line, sign))


def _sign(line: str, form: LogFormat) -> str:
    """The delimiter that a first line shows: tab and semicolon before comma, for decimal commas."""
    if form.delimiter:
        return form.delimiter
    comma = "," if form.decimal == "." else ";"
    return next((s for s in ("\t", ";", comma, "|") if len(split(line, s)) > 1), comma)


def _by_first_line(
    lines: Sequence[str], first: int, form: LogFormat, names: bool, shape: Shape | None = None
) -> Head:
    """A log of cells whose first line has the names, or is data that nobody can read."""
    sign = shape.delimiter if shape is not None and shape.width > 1 else _sign(lines[first], form)
    cells = _names(lines[first], sign)
    is_named = form.columns is not None and len(form.columns) == len(cells)
    given = form.columns if is_named and form.columns else ()
    found = Shape("csv", sign, len(cells), given, decimal=form.decimal)
    if form.header is False or is_named:
        return Head(found, first, sorts=shape is not None)
    named = replace(found, names=cells, header=True)
    return Head(named, first + 1, header=first, sorts=shape is not None or names)
