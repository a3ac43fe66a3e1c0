"""How lines are written, found out by one rule: cells, pairs, numbers between words, or JSON.

A line shows a shape: what is between its numbers. The form is that of the first lines that
agree. From then on what has another shape is no sample.
"""

from __future__ import annotations

import csv
import json
import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, cached_property
from itertools import zip_longest

from ..core.bench.bench import DELIMITERS, LogFormat
from ..core.ruler.units import usual
from .cells import HEX, MISSING, STAMP, number_pattern, read_cell

#: The lines at the start of a log that show its form.
HEAD_LINES = 256
_SIGN_NAMES = {sign: name for name, sign in DELIMITERS.items()}
#: A date, a time of day, or both; and those in front of something else.
WHEN = re.compile(rf"{STAMP}\Z")
_BRACKETS = {"(": ")", "[": "]", "{": "}", "<": ">"}
_NAME = r"[^\W\d](?:[^\s=:,;|]|[ \t]+(?=[^\s=:,;|]))*?"
_UNIT = r'[ ]?[^\s,;|=:\d"+-][^\s,;|=:]*(?=[\s,;|]|\Z)(?!\s*[=:])'

# Patterns that a usual log does not need are compiled when they are.


@cache
def _stamped() -> re.Pattern[str]:
    """A time in front of something else."""
    # A minus in front of a number is its sign, unless it touches the time or stands alone.
    apart = r"\s*(?:->|=>|[>,;:|])\s*|\s*[\-–]\s+|[\-–]|\s+"
    return re.compile(rf"\s*[\[(]?({STAMP})[\])]?(?:{apart})(?=\S)")


@cache
def _in_words(decimal: str) -> re.Pattern[str]:
    """A number between words: no part of a name, a time, or a version."""
    number, point = f"(?:{HEX}|{number_pattern(decimal)})", "," if decimal == "," else r"\."
    alone = rf"(?<![\w.,:/-]){number}(?![\d:/-]|{point}\d)"
    return re.compile(rf"{alone}|(?<=[\s:=(\[])-{number}(?!\d)")


@cache
def _with_unit(decimal: str) -> re.Pattern[str]:
    """A number and its unit: an exponent is none, nor the rest of a date, and 0x1F is not 0."""
    unit = r"(?![eE][+-]?\d|[xX][0-9a-fA-F]|[+-]|/\d)[^\s\d.,;|=:][^\s,;|=:]*"
    return re.compile(rf"({number_pattern(decimal)})\s*({unit})\Z")


@cache
def _pair(decimal: str) -> re.Pattern[str]:
    """A name, its value, perhaps a unit, and what separates them from the next."""
    comma = "" if decimal == "," else ","
    value = rf'"[^"]*"|[^\s{comma};|=:]*'
    return re.compile(rf"\s*({_NAME})\s*[=:]\s*({value})({_UNIT})?(?:\s*[{comma};|]\s*|\s+|\Z)")


#: What a line that nobody can read is answered with.
EXPECTED = (
    "numbers with one sign between, name=value, JSON, or numbers between words; "
    "use --format, --delimiter and --columns"
)


@dataclass(frozen=True)
class Shape:
    """What lines of one form share.

    kind: one of the formats of text. delimiter: between cells; " " for blanks. width: how many
    cells. names: of the columns; those of pairs and JSON grow. stamped: whether a time is in
    front. brackets: whether each line is in some. words: what is between the numbers.
    header: whether the first line has the names.
    """

    kind: str
    delimiter: str = ","
    width: int = 0
    names: tuple[str, ...] = ()
    stamped: bool = False
    brackets: bool = False
    words: tuple[str, ...] = ()
    header: bool = False
    decimal: str = field(default=".", compare=False)
    units: tuple[tuple[str, str], ...] = field(default=(), compare=False)
    """Names with the unit that is behind their first number, or in a row below the names."""
    commas: bool = field(default=False, compare=False)
    """Whether decimal commas were found, which nobody named."""
    behind: tuple[str, ...] = field(default=(), compare=False)
    """The unit behind the numbers of each cell, where one of them has one."""

    def agrees(self, other: Shape) -> bool:
        """Whether two lines are of one form."""
        if self.kind != other.kind or self.stamped != other.stamped:
            return False
        if self.kind == "pairs":
            return not set(self.names).isdisjoint(other.names)
        if self.kind == "words":
            return self.words == other.words
        same = (self.delimiter, self.brackets) == (other.delimiter, other.brackets)
        return self.kind == "jsonl" or (same and self.width == other.width)

    @property
    def plain(self) -> bool:
        """Whether its lines are cells with a sign between, as a CSV log's."""
        return self.kind == "csv" and not (self.stamped or self.brackets or self.delimiter == " ")

    @property
    def columns(self) -> list[str]:
        """Names of the columns, the numbers of those that have none."""
        if self.kind == "csv" and not self.names:
            return [str(i + 1) for i in range(self.width)]
        return ["time", *self.names] if self.stamped and self.kind != "csv" else list(self.names)

    @property
    def description(self) -> str:
        """How lines are read, in words; empty for the usual forms of a log."""
        commas = "decimal commas" if self.commas else ""
        known = ", ".join(filter(None, dict.fromkeys(self.behind)))
        units = f"units behind numbers ({known})" if known else ""
        return ", with ".join(filter(None, (self._in_words, commas, units)))

    @property
    def _in_words(self) -> str:
        if self.kind == "jsonl" or (self.plain and (self.header or self.names)):
            return ""
        front = "a time in front, then " if self.stamped and self.kind != "csv" else ""
        if self.kind == "pairs":
            return f"{front}names with values ({', '.join(self.names)})"
        if self.kind == "words":
            return f"{front}the numbers in “{'…'.join(self.words).strip()}”"
        return self._cells_in_words()

    def _cells_in_words(self) -> str:
        sign = _SIGN_NAMES.get(self.delimiter, repr(self.delimiter))
        sign = "blanks" if sign == "blank" else f"{sign}s"
        cells = self.width - self.stamped
        what = "one number" if cells == 1 else f"{cells} cells separated by {sign}"
        what += " in brackets" if self.brackets else ""
        if self.stamped:
            what = f"a time and {what}"
        if self.header:
            return f"{what}, below a header"
        numbered = "column 1" if self.width == 1 else f"columns 1 … {self.width}"
        return f"{what}, no header ({numbered})"

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        words = [r"\s+".join(map(re.escape, part.split())) for part in self.words]
        return re.compile(r"\s*" + r"\s*([^\s]*?)\s*".join(words) + r"\s*\Z")

    def cells(self, line: str) -> list[str] | None:
        """The cells of a line of cells or words; None for a line of another form."""
        if self.kind == "words":
            return self._stamped(line, self._between)
        return self._stamped(line, self._split)

    def _stamped(self, line: str, rest: Callable[[str], list[str] | None]) -> list[str] | None:
        if not self.stamped:
            return rest(line)
        found = _stamped().match(line)
        cells = rest(line[found.end() :]) if found else None
        return None if found is None or cells is None else [found[1], *cells]

    def _between(self, line: str) -> list[str] | None:
        found = self._pattern.match(line)
        return None if found is None else [*found.groups()]

    def _split(self, line: str) -> list[str] | None:
        if self.brackets:
            inner = _unwrapped(line)
            if inner is None:
                return None
            line = inner
        return split(line, self.delimiter)

    def bare(self, cells: Sequence[str]) -> list[str]:
        """Cells without the units behind their numbers."""
        pairs = zip_longest(cells, self.behind[: len(cells)], fillvalue="")
        return [re.sub(before_unit(unit), r"\1", c) if unit else c for c, unit in pairs]

    def pairs(self, line: str) -> dict[str, str] | None:
        """Names and values of a line of pairs; None for a line of another form."""
        stamp = _stamped().match(line) if self.stamped else None
        if self.stamped and stamp is None:
            return None
        found = read_pairs(line[stamp.end() :] if stamp else line, self.decimal)
        if found is None:
            return None
        known = dict(self.units)
        cells = {
            # A number in another unit is another number, and none that could be read here.
            name: value if unit in ("", known.get(name, unit)) else f"{value} {unit}"
            for name, (value, unit) in found.items()
        }
        return cells if stamp is None else {"time": stamp[1], **cells}


def split(line: str, delimiter: str) -> list[str]:
    """The cells of a line."""
    if delimiter == " ":
        return line.split()
    line = line.strip("\r\n")
    if '"' not in line or delimiter == "\0":  # the csv module takes no field of over 128 KiB
        return line.split(delimiter)
    try:
        return next(csv.reader([line], delimiter=delimiter), [""])
    except csv.Error:
        return line.split(delimiter)


def read_pairs(line: str, decimal: str) -> dict[str, tuple[str, str]] | None:
    """`name=value` or `name: value unit`, several on a line: each value, and its unit; None where a
    part is no pair."""
    pattern = _pair(decimal)
    found: dict[str, tuple[str, str]] = {}
    place, line = 0, line.strip()
    while place < len(line):
        match = pattern.match(line, place)
        if match is None or match.end() == place:
            return None
        value, unit = match[2].strip('"'), (match[3] or "").strip()
        if with_unit := _with_unit(decimal).match(value):
            value, unit = with_unit[1], with_unit[2]
        found[match[1]] = value, unit
        place = match.end()
    return found or None


def _unwrapped(line: str) -> str | None:
    line = line.strip().rstrip(",;")
    closing = _BRACKETS.get(line[:1])
    return line[1:-1] if closing and line.endswith(closing) and len(line) > 2 else None


def is_value(cell: str, decimal: str) -> bool:
    """Whether a cell holds a number or a time, or says that there is none."""
    text = cell.strip().strip('"')
    return bool(text) and (_is_read(text, decimal) or WHEN.match(text) is not None)


def unit_behind(cell: str, decimal: str) -> str | None:
    """What is behind the number in a cell: nothing, most often; None where there is no number."""
    text = cell.strip().strip('"').strip()
    if _has_number([text], decimal):
        return ""
    found = _with_unit(decimal).match(text)
    return found[2] if found else None


def before_unit(unit: str) -> str:
    """What matches a cell with this unit behind its number, or behind what says that there is none;
    the first group is that."""
    return rf"^\s*(.*[0-9.,]|(?i:{'|'.join(MISSING)})|)\s*{re.escape(unit)}\s*$"


def why_no_numbers(cells: Sequence[str], decimal: str) -> str:
    """A hint behind a message, if cells show why they are no numbers; else nothing."""
    for cell in (cell.strip().strip('"') for cell in cells):
        if decimal == "." and re.fullmatch(r"[+-]?\d+,\d+", cell):
            return "; is the decimal mark a comma? (--decimal-comma)"
        if _with_unit(decimal).match(cell):
            return f"; expected cells without a unit, found {cell!r}"
    return ""


def _is_read(text: str, decimal: str) -> bool:
    return read_cell(text.encode("utf-8", "surrogateescape"), decimal) != "unreadable"


def _has_number(cells: Sequence[str], decimal: str) -> bool:
    return any(
        not isinstance(read_cell(c.encode("utf-8", "surrogateescape"), decimal), str) for c in cells
    )


def shape_of(line: str, form: LogFormat) -> Shape | None:
    """The shape that a line of data shows; None for a line that is none."""
    found = _shape(line, form, ("jsonl", "csv", "pairs"))
    if found is None and line.isascii() and not any(map(str.isdecimal, line)):
        return None  # a header, most often
    if found is None and (stamp := _stamped().match(line)):
        rest = _shape(line[stamp.end() :], form, ("csv", "pairs", "words"))
        if rest is not None:
            found = replace(rest, stamped=True, width=rest.width + 1)
    found = found or _shape(line, form, ("words",))
    if found is None or found.decimal == form.decimal:
        return found
    return replace(found, decimal=form.decimal)


def _shape(line: str, form: LogFormat, kinds: Sequence[str]) -> Shape | None:
    for kind in kinds if form.format is None else set(kinds) & {form.format}:
        found = _FINDERS[kind](line, form)
        if found is not None:
            return found
    return None


def _json(line: str, form: LogFormat) -> Shape | None:
    if not line.lstrip().startswith("{"):
        return None
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return Shape("jsonl", names=tuple(map(str, found))) if isinstance(found, dict) else None


def _cells(line: str, form: LogFormat) -> Shape | None:
    inner = _unwrapped(line)
    if inner is not None and (found := _cells(inner, form)):
        return replace(found, brackets=True)
    for sign in (form.delimiter,) if form.delimiter else ("\t", ";", ",", "|"):
        cells = split(line, sign)
        if len(cells) == 1 or sign == " " or (sign == "," and form.decimal == ","):
            continue
        values = [is_value(cell, form.decimal) for cell in cells]
        if not values[0] and _stamped().match(cells[0]):
            continue  # a time in front of the first number is none of its cell
        units = (unit_behind(cell, form.decimal) for cell in cells)
        if "=" not in cells[0] and (any(values) or all(units)):
            return Shape("csv", sign, len(cells))
    cells = line.split()
    if len(cells) > 2 and WHEN.match(" ".join(cells[:2])):
        return None  # a date and a time of day are one cell, in front of others
    whole = _numbers_only(cells, form.decimal)
    if form.delimiter is None and usual(unit_behind(line, form.decimal) or ""):
        return Shape("csv", width=1)
    if (cells and whole and form.delimiter in (None, " ")) or (len(cells) == 1 and whole):
        return Shape("csv", " " if len(cells) > 1 else form.delimiter or ",", len(cells))
    return None


def _numbers_only(cells: Sequence[str], decimal: str) -> bool:
    numbers = _has_number(cells, decimal) or (len(cells) == 1 and _is_read(cells[0], decimal))
    return numbers and all(is_value(cell, decimal) for cell in cells)


def _pairs(line: str, form: LogFormat) -> Shape | None:
    found = read_pairs(line, form.decimal) if "=" in line or ":" in line else None
    if found is None or not any(is_value(value, form.decimal) for value, _ in found.values()):
        return None
    units = ((name, unit) for name, (value, unit) in found.items() if is_value(value, form.decimal))
    return Shape("pairs", names=tuple(found), units=tuple(units))


def _words(line: str, form: LogFormat) -> Shape | None:
    text = line.strip()
    places = [match.span() for match in _in_words(form.decimal).finditer(text)]
    if not places or len(places) > 64:
        return None
    ends = [0, *(end for _, end in places)]
    starts = [*(start for start, _ in places), len(text)]
    words = [" ".join(text[a:b].split()) for a, b in zip(ends, starts, strict=True)]
    if not any(re.search(r"[^\W\d_]|%|°", part) for part in words):
        return None
    names: list[str] = []
    for i, part in enumerate(words[:-1]):
        before = re.findall(r"[^\W\d]\w*", part)
        name = before[-1] if before else f"value{i + 1}"
        names.append(name if name not in names else f"{name}{i + 1}")
    return Shape("words", names=tuple(names), words=tuple(words), width=len(names))


_FINDERS = {"jsonl": _json, "csv": _cells, "pairs": _pairs, "words": _words}


def names_in(line: str, shape: Shape, form: LogFormat) -> tuple[str, ...] | None:
    """The names in a header above lines of cells of some shape; None if it is none."""
    if shape.kind != "csv":
        return None
    inner = (_unwrapped(line) or line) if shape.brackets else line
    width = shape.width
    if width == 1 and _in_words(form.decimal).search(line):
        return None  # prose
    signs = [shape.delimiter, "\0"] if width == 1 else [shape.delimiter]
    for sign in signs:
        cells = [cell.strip().strip('"').strip() for cell in split(inner, sign)]
        if len(cells) == width - 1:
            cells.append("")  # its rows have a delimiter at the end
        if len(cells) == width and not is_data(cells, form.decimal):
            return tuple(cells)
    return None


def is_data(cells: Sequence[str], decimal: str) -> bool:
    """Whether a first line is data: numbers and times are no names."""
    known = sum(is_value(cell, decimal) for cell in cells)
    empty = sum(not cell.strip() for cell in cells)
    return _has_number(cells, decimal) and known + empty == len(cells)


@dataclass
class Noise:
    """Lines that are no samples: how many of each kind, and the first of each."""

    counts: Counter[str] = field(default_factory=Counter)
    first: dict[str, str] = field(default_factory=dict)

    def add(self, kind: str, line: str | bytes) -> None:
        """One more."""
        self.counts[kind] += 1
        if kind not in self.first:
            text = line.decode("utf-8", "replace") if isinstance(line, bytes) else line
            self.first[kind] = text.strip()[:60]

    @property
    def words(self) -> str:
        """How many lines were no samples, with the first of each kind; empty where all were."""
        counts = {kind: n for kind, n in self.counts.items() if n and kind != "header"}
        parts = [
            f"{kind} {n}" + (f" (the first: {self.first[kind]!r})" if self.first.get(kind) else "")
            for kind, n in sorted(counts.items())
        ]
        total = sum(counts.values())
        lines = "1 line was no sample" if total == 1 else f"{total} lines were no samples"
        return f"{lines}: {', '.join(parts)}" if parts else ""

    def join(self, other: Noise) -> None:
        """Those of a later part."""
        self.counts.update(other.counts)
        self.first = other.first | self.first
