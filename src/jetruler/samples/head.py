"""The first lines of a log or a stream: the form that they agree on, and where samples begin."""

from __future__ import annotations

import itertools
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from ..core.bench.bench import TIME_UNITS, LogFormat
from ..core.ruler.units import is_unit, many, usual
from .shapes import Noise, Shape, is_data, is_value, names_in, shape_of, split, unit_behind
from .source import ColumnError

#: Lines with something in them that show the form, and the bytes in which they are.
HEAD_LINES, HEAD_BYTES = 256, 48 * 1024
#: Of these, the lines that show the units behind numbers.
UNIT_LINES = 64
#: This many lines of the same words are no chance.
QUOTED = 5
#: A column's name is shorter than this.
LONGEST_NAME = 2**17

#: What a record of a stream begins with, and what ends a line that was not whole.
RECORD, CUT = "# record of a stream: time of arrival, line", " # not whole"


@dataclass(frozen=True)
class Head:
    """What the first lines show.

    shape: the form of all lines. begin: the line, from 0, with the first sample. header, units:
    those with the names and their units, None without one. above: the lines before the first
    sample. sorts: whether lines without a value are no samples. blank_is_row: whether an empty line
    is a sample.
    """

    shape: Shape
    begin: int
    header: int | None = None
    units: int | None = None
    above: Sequence[str] = ()
    sorts: bool = True
    blank_is_row: bool = True
    is_record: bool = False
    agreed: bool = False
    """Whether two lines agree on it."""
    form: LogFormat = field(default_factory=LogFormat)
    """What is known of the lines, with the decimal mark that they show."""


@dataclass
class Above:
    """What is above the first sample."""

    comment: str
    lines: int = 0
    comments: int = 0
    blank: int = 0
    noise: Noise = field(default_factory=Noise)

    def add(self, lines: Sequence[str], *known: int | None) -> None:
        """Some more lines; known: those that have names and units."""
        for index, line in enumerate(lines):
            text = line.strip()
            self.comments += text.startswith(self.comment)
            self.blank += not text
            if text and not text.startswith(self.comment) and index not in known:
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
        i
        for i, line in enumerate(lines)
        if line.strip() and not line.startswith(form.comment) and not (i == 0 and _SIGN.match(line))
    ][:HEAD_LINES]
    if not content:
        return None
    known = with_decimal([lines[i] for i in content], form)
    head = _Lines(lines, content, known, wanted).head()
    blanks = sum(not line.strip() for line in lines[head.begin : content[-1]])
    after = sum(i >= head.begin for i in content)
    shape = replace(head.shape, commas=known is not form)
    if shape.behind:
        behind = {name: u for name, u in zip(shape.columns, shape.behind, strict=False) if u}
        shape = replace(shape, units=tuple((behind | dict(shape.units)).items()))
    return replace(
        head,
        shape=shape,
        form=known,
        above=lines[: head.begin],
        is_record=is_record,
        blank_is_row=blanks < 0.8 * max(1, after - 1),
    )


#: The line in front of a table by which a spreadsheet says what separates its cells.
_SIGN = re.compile(r"\s*\"?sep=.\"?\s*\Z", re.IGNORECASE)
#: A number with a comma, and one with a point, in a cell; perhaps behind a name, before a unit.
_NAMED, _EXPONENT = (
    r"(?:[^\W\d][^=:]*[=:]\s*)?[+-]?",
    r"(?:[eE][+-]?\d+)?(?:\s*[^\W\d]\S*|\s*[°%]\S*)?",
)
_AROUND = ' \t"()[]{}<>'
_COMMA = re.compile(rf"{_NAMED}\d+,\d+{_EXPONENT}")
_POINT = re.compile(rf"{_NAMED}\d*\.\d+{_EXPONENT}")


def with_decimal(lines: Sequence[str], form: LogFormat) -> LogFormat:
    """The format with the decimal comma that lines show: between semicolons, tabs or bars, numbers
    with a comma and none with a point. Without such a sign a comma may separate two numbers."""
    signs = (form.delimiter,) if form.delimiter else ("\t", ";", "|")
    if form.decimal != "." or form.format not in (None, "csv") or "," in signs:
        return form
    for sign in signs:
        rows = [split(line, sign) for line in lines if sign in line]
        cells = [cell.strip(_AROUND) for row in rows for cell in row]
        commas = any(map(_COMMA.fullmatch, cells)) and not any(map(_POINT.fullmatch, cells))
        if commas and 2 * len(rows) >= len(lines) > 1:
            return replace(form, decimal=",")
    return form


def _is_known(unit: str) -> bool:
    """Whether a text is a unit; of single letters only those in use: `a`, `b` and `c` are names."""
    return is_unit(unit) if len(unit) > 1 else usual(unit) is not None


class _Lines:
    """The first lines while their form is found out. content: those with something in them."""

    def __init__(
        self,
        lines: Sequence[str],
        content: Sequence[int],
        form: LogFormat,
        wanted: Sequence[str | int],
    ) -> None:
        self.lines, self.content, self.form = lines, content, form
        self.wanted = {column for column in wanted if isinstance(column, str)}
        found = ((i, shape_of(lines[i], form)) for i in content)
        self.shapes = {i: shape for i, shape in found if shape is not None}
        if form.columns is not None:
            right = {i: s for i, s in self.shapes.items() if s.width == len(form.columns)}
            self.shapes = right or self.shapes

    def head(self) -> Head:
        """The form of the first lines that agree."""
        shapes, first = self.shapes, self.content[0]
        # What a board says while it starts may agree too: numbers between words come last.
        plain = [i for i, shape in shapes.items() if shape.kind != "words"]
        start = self._first_agreed(plain)
        start = self._first_agreed(list(shapes)) if start is None else start
        start = min(plain or shapes, default=None) if start is None else start
        if start is None:
            return self._by_first_line(self._asked(first))
        shape = shapes[start]
        same_count = [i for i in shapes if shapes[i].agrees(shape)]
        if shape.kind in ("pairs", "jsonl"):
            names = dict.fromkeys(name for i in same_count for name in shapes[i].names)
            units = [pair for i in reversed(same_count) for pair in shapes[i].units]
            shape = replace(shape, names=tuple(names), units=tuple(dict(units).items()))
        if shape.kind == "csv":
            rows = [shape.cells(self.lines[i]) or [] for i in same_count[:UNIT_LINES]]
            shape = replace(shape, behind=_behind(rows, self.form.decimal))
        enough = QUOTED if shape.kind == "words" else 2
        found = Head(shape, start, agreed=len(same_count) >= enough)
        if shape.kind not in ("csv", "words"):
            return found
        if self.form.columns is not None:
            return self._named(self.form.columns, found, same_count)
        if shape.kind == "words":
            is_header = (
                len(same_count) < 2 and first < start and self._sign(first) in self.lines[first]
            )
            return self._by_first_line(True) if is_header else found
        return self._with_header(found, same_count)

    def _first_agreed(self, indices: Sequence[int]) -> int | None:
        """The first line with which the next one of a shape agrees."""
        shapes = self.shapes
        pairs = itertools.pairwise(indices)
        return next((i for i, j in pairs if shapes[i].agrees(shapes[j])), None)

    def _named(self, names: tuple[str, ...], found: Head, same_count: Sequence[int]) -> Head:
        """The form with names that somebody gave; a log's own header goes first."""
        known, shape = self._with_header(found, same_count), found.shape
        fits = len(names) == shape.width
        if known.header is not None and (self._asked(known.header) or not fits):
            return known
        if not fits:
            line = self.lines[found.begin].strip()[:60]
            cells = f"a line has {many(shape.width, 'cell')}, as in {line!r}"
            raise ColumnError("columns", f"found {len(names)} names; {cells}")
        return replace(found, shape=replace(shape, names=names))

    def _with_header(self, found: Head, same_count: Sequence[int]) -> Head:
        """The form with the names that are above the first sample, if some do."""
        lines, first, form = self.lines, self.content[0], self.form
        shape, start = found.shape, found.begin
        if form.header is False:
            return found
        if form.header is True or (first == start and self._has_names(same_count, shape)):
            return self._by_first_line(True, shape)
        above = [i for i in self.content if i < start]
        units = self._units(above, shape)
        last = above[-1:] if units is None else above[-2:-1]
        for i in reversed(above):
            names, asked = names_in(lines[i], shape, form), self._asked(i)
            if asked and shape.width == 1 and names is None:
                names = _names(lines[i], "\0")
            if names is not None and units is not None and i in last:
                # A time's unit belongs to its name: nothing else tells it.
                parts = zip(names, units, strict=True)
                names = tuple(f"{n} ({u})" if u in TIME_UNITS and u != "s" else n for n, u in parts)
            if names is not None and (asked or i in last):
                stated = units if units is not None and i in last else ()
                pairs = tuple((n, u) for n, u in zip(names, stated, strict=False) if u)
                named = replace(shape, names=names, units=pairs, header=True)
                of_units = above[-1] if stated else None
                below = range(1 + (i if of_units is None else of_units), start + 1)
                begin = next(j for j in below if j == start or lines[j].strip())
                return replace(found, shape=named, begin=begin, header=i, units=of_units)
        is_prose = first in self.shapes
        if not found.agreed and above and not is_prose and self._sign(first) in lines[first]:
            return self._by_first_line(True)
        return found

    def _units(self, above: Sequence[int], shape: Shape) -> tuple[str, ...] | None:
        """The units in the last line above the samples, if the one before it has the names."""
        rows = [names_in(self.lines[i], shape, self.form) for i in above[-2:]]
        if len(rows) < 2 or rows[0] is None or rows[1] is None:
            return None
        named, units = rows[0], tuple(unit.strip("()[]") for unit in rows[1])
        # Some cells may say something else (`hh:mm:ss`, `raw`), and some names be units (`day`).
        shares = [
            sum(map(_is_known, filter(None, row))) / max(1, sum(map(bool, row)))
            for row in (named, units)
        ]
        with_names = all(name for name, unit in zip(named, units, strict=True) if unit)
        return units if with_names and shares[1] > shares[0] and shares[1] >= 0.5 else None

    def _has_names(self, same_count: Sequence[int], shape: Shape) -> bool:
        """Whether the first of some lines has names where the others have values."""
        first, *rest = (split(self.lines[i], shape.delimiter) for i in same_count)
        decimal = self.form.decimal
        if shape.stamped or shape.brackets or is_data(first, decimal):
            return False
        if not rest:
            return True
        values = [all(is_value(row[i], decimal) for row in rest) for i in range(len(first))]
        return any(
            known and re.search(r"[^\W\d_]", cell) and not is_value(cell, decimal)
            for known, cell in zip(values, first, strict=True)
        )

    def _asked(self, index: int) -> bool:
        """Whether a line names a column that is needed."""
        return not self.wanted.isdisjoint(_names(self.lines[index], self._sign(index)))

    def _sign(self, index: int) -> str:
        """The delimiter that a line of names shows: tab and semicolon before comma, for decimal
        commas."""
        if self.form.delimiter:
            return self.form.delimiter
        comma = "," if self.form.decimal == "." else ";"
        signs = ("\t", ";", comma, "|")
        return next((s for s in signs if len(split(self.lines[index], s)) > 1), comma)

    def _by_first_line(self, names: bool, shape: Shape | None = None) -> Head:
        """A log of cells whose first line has the names, or is data that nobody can read."""
        form, first = self.form, self.content[0]
        sign = shape.delimiter if shape is not None and shape.width > 1 else self._sign(first)
        cells = _names(self.lines[first], sign)
        is_named = form.columns is not None and len(form.columns) == len(cells)
        given = form.columns if is_named and form.columns else ()
        behind = () if shape is None else shape.behind
        found = Shape("csv", sign, len(cells), given, decimal=form.decimal, behind=behind)
        if form.header is False or is_named:
            return Head(found, first, sorts=shape is not None)
        named = replace(found, names=cells, header=True)
        return Head(named, first + 1, header=first, sorts=shape is not None or names)


def _behind(rows: Sequence[Sequence[str]], decimal: str) -> tuple[str, ...]:
    """The unit behind most numbers of each column; of a single number it must be in use."""
    found = []
    for cells in zip(*rows, strict=False):
        units = Counter(u for cell in cells if (u := unit_behind(cell, decimal)) is not None)
        unit, many = units.most_common(1)[0] if units else ("", 0)
        common = 2 * many > units.total() and (many > 1 or usual(unit) is not None)
        found.append(unit if common else "")
    return tuple(found) if any(found) else ()


def _names(line: str, sign: str) -> tuple[str, ...]:
    return tuple(cell.strip().strip('"').strip() for cell in split(line, sign))
