"""Lines of a stream, handed in as they come: samples with their times out, by the readers and the
rules that logs have."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import pyarrow as pa

from ..core.bench.bench import LogFormat
from ..core.numerics import Array
from .cells import Samples, read_samples, texts_to_arrow, to_arrow
from .head import HEAD_LINES, Above, Head, find_head, head_lines
from .opening import blocks_of
from .shapes import Noise, names_in, split
from .source import ColumnError, RowBatch, position_in
from .text_log import BlockReader
from .times import LogClock, Names, find_time_column

#: A line longer than this is none.
LONGEST = 1 << 16
#: This many lines are waited for a column that those before do not have.
LINES_WITHOUT = 20


@dataclass(frozen=True)
class Taken:
    """Samples as they came. at: when each arrived; texts, times: when each was taken, as text and
    in seconds; columns: the samples of each column that is needed."""

    at: Array
    texts: pa.Array
    times: Array
    columns: list[Samples]

    def __len__(self) -> int:
        return len(self.times)

    def part(self, start: int, stop: int) -> Taken:
        """Some of them."""
        which = slice(start, stop)
        columns = [
            Samples(c.counts[which], None if c.missing is None else c.missing[which])
            for c in self.columns
        ]
        return Taken(self.at[which], self.texts[which], self.times[which], columns)


@dataclass
class StreamLines:
    """Reads lines for the columns wanted.

    Lines are kept back until two agree on a form, or `settle` says that no more are to be waited
    for. arrives: whether the time of arrival is a clock, where the lines have no other. Raises
    `ColumnError` for a column that the lines do not have.
    """

    form: LogFormat
    wanted: Sequence[str | int]
    name: str = "the stream"
    arrives: bool = True
    noise: Noise = field(default_factory=Noise)
    remark: str = ""
    """What the last line that begins with the comment sign says."""
    unreadable: Counter[str | int] = field(default_factory=Counter)
    torn: int = 0
    """Lines with too few or too many cells, which are missing samples."""
    rows: int = 0
    interval: float | None = None
    """The usual time between two samples, where the first lines show it."""
    blocks: BlockReader | None = None
    """What reads the lines, once their form is known."""

    def __post_init__(self) -> None:
        self.clock = LogClock(step=self.form.seconds_between)
        self.interval = self.interval or self.clock.step
        self._held: list[tuple[bytes, Array]] = []
        self._indices: list[int | None] = []
        self._skip: Head | None = None
        if self.form.format == "jsonl":  # nothing is to be found out
            head = find_head(["{}"], self.form)
            assert head is not None
            self._use(head, None)

    @property
    def time_name(self) -> str:
        """What a column of the samples' times is called."""
        if self.clock.column is not None:
            return self.clock.column.name
        return "time_s" if self.arrives or self.clock.is_known else "sample"

    @property
    def has_source_clock(self) -> bool:
        """Whether the lines have times of their own."""
        return self.clock.column is not None

    @property
    def has_clock(self) -> bool:
        """Whether samples have times."""
        return self.arrives or self.clock.is_known

    @property
    def torn_words(self) -> str:
        """How many lines have too few or too many cells; empty where none."""
        lines = "1 line has" if self.torn == 1 else f"{self.torn} lines have"
        return f"{lines} too few or too many cells: missing samples" if self.torn else ""

    @property
    def line_format(self) -> str:
        """How the lines are read; empty where that is as usual, or unknown."""
        return "" if self.blocks is None else self.blocks.shape.description

    def prime(self, head: bytes) -> None:
        """Find out from the first bytes, which come again, what a log of them would show: the form,
        the time column and the interval."""
        head = head[: head.rfind(b"\n") + 1]  # a line that is still being written says nothing yet
        found = self._head(head) if head else None
        if found is None or not self._is_enough(found, head_lines(head)):
            return
        self._skip = found
        rest = head.split(b"\n", found.begin)[-1]
        self._use(found, rest, by_name=False)

    def add(self, block: bytes, at: Array) -> list[Taken]:
        """The samples of whole lines, with the time that each line arrived."""
        if len(block) > LONGEST:
            block = self._without_long(block)
        if self.form.comment.encode() in block:
            self._note_remark(block)
        if self.blocks is not None:
            return self._read(block, at)
        self._held.append((block, at))
        held = b"".join(held for held, _ in self._held)
        lines, head = head_lines(held), self._head(held)
        if (head is not None and self._is_enough(head, lines)) or len(lines) > HEAD_LINES:
            return self.settle()
        return []

    def _is_enough(self, head: Head, lines: Sequence[str]) -> bool:
        """Whether so few lines leave no doubt."""
        named = {column for column in self.wanted if isinstance(column, str)}
        there = named <= set(head.shape.columns) | set(self._later(head))
        there |= head.shape.names == self.form.columns or len(lines) > LINES_WITHOUT
        if not head.sorts or not there:
            return False
        if head.header is not None:
            return any(line.strip() for line in lines[head.begin :])
        known = self.form.columns is not None and head.sorts
        if head.shape.kind in ("pairs", "jsonl"):
            known |= not set(head.shape.names).isdisjoint(self.wanted)
        return head.agreed or known

    def _later(self, head: Head) -> list[str]:
        """The columns that may come later: a line of pairs or JSON need not have all names."""
        grows = head.shape.kind in ("pairs", "jsonl")
        asked = [column for column in self.wanted if isinstance(column, str)]
        return asked if grows and set(head.shape.names) & set(asked) else []

    def rewanted(self, wanted: Sequence[str | int]) -> StreamLines:
        """The same stream, read for other columns from now on. Raises `ColumnError`."""
        lines = StreamLines(self.form, wanted, self.name, self.arrives, self.noise)
        lines._held, lines._skip = self._held, self._skip
        lines.interval, lines.clock, lines.rows = self.interval, self.clock, self.rows
        lines.unreadable, lines.torn = self.unreadable, self.torn
        if self.blocks is not None:
            clock, step = self.clock, lines.interval
            lines._use(Head(self.blocks.shape, 0, form=self.form), None)
            lines.clock, lines.interval = clock, step
        return lines

    def settle(self, final: bool = True) -> list[Taken]:
        """What is kept back, in the form that it shows so far. final: whether no more comes; else
        a line that may be a board's greeting is kept back still."""
        if not self._held:
            return []
        block = b"".join(held for held, _ in self._held)
        at = np.concatenate([times for _, times in self._held])
        head = self._head(block)
        greeting = head is not None and head.shape.kind != "csv" and not self._is_enough(head, [])
        if greeting and not final and len(at) <= HEAD_LINES:
            return []
        if head is None or not head.sorts:
            above = Above(self.form.comment)
            above.add(block.decode("utf-8", "replace").split("\n")[:-1])
            if len(at) > HEAD_LINES:  # it goes on; what is no sample need not be kept
                self.noise.join(above.noise)
                self._held = []
            return []
        self._held = []
        self._skip = head
        self._use(head, block.split(b"\n", head.begin)[-1])
        return self._read(block, at)

    def _head(self, block: bytes) -> Head | None:
        """What the first lines show; None where that is nothing, or not what is known of them: what
        comes next may."""
        try:
            return find_head(head_lines(block), self.form, self.wanted)
        except ColumnError:
            return None

    def leave(self) -> None:
        """No more comes: what is still kept back is no sample."""
        above = Above(self.form.comment)
        for block, _ in self._held:
            above.add(block.decode("utf-8", "replace").split("\n")[:-1])
        self.noise.join(above.noise)
        self._held = []

    def _use(self, head: Head, rows: bytes | None, *, by_name: bool = True) -> None:
        """Read in a form from now on. rows: some lines in it, which show the time column."""
        shape, self.form = head.shape, head.form
        grows = shape.kind in ("pairs", "jsonl")
        if grows:  # a field may come later
            names = [*shape.names, *(c for c in self.wanted if isinstance(c, str))]
            if isinstance(self.form.time, str):
                names.append(self.form.time)
            head = replace(head, shape=replace(shape, names=tuple(dict.fromkeys(names))))
        self.blocks = blocks_of(head, self.form)
        columns = self.blocks.columns
        named = "" if shape.header else self.blocks.shape.description
        line_format = named or ", ".join(columns)
        # Lines without any field (no stream at all) have no numbered columns.
        empty = shape.kind == "jsonl" and not shape.names
        self._indices = [
            None
            if empty and isinstance(c, int)
            else position_in(columns, c, self.name, line_format)
            for c in self.wanted
        ]
        used = {index for index in self._indices if index is not None}
        batch = self.blocks.read(rows).batch if rows else None
        if batch is not None and batch.rows:
            known = Names(columns, self.form, dict(shape.units))
            column = find_time_column(known, batch, used, by_name=by_name)
            self.clock = LogClock(column, self.form.seconds_between)
            if not by_name:
                self.interval = self.clock.interval(batch.head(HEAD_LINES))
        self.blocks.ask(dict.fromkeys(used, pa.int64()))

    def _read(self, block: bytes, at: Array) -> list[Taken]:
        assert self.blocks is not None
        if self._skip is not None:
            head, self._skip = self._skip, None
            above = Above(self.form.comment)
            above.add(head.above, head.header, head.units)
            self.noise.join(above.noise)
            if head.header is not None:
                self.noise.counts["header"] += 1
            block, at = block.split(b"\n", head.begin)[-1], at[head.begin :]
        if not block:
            return []
        read = self.blocks.read(block)
        if self.blocks.shape.header and read.noise.counts["other text"]:
            again = self._other_header(block)
            if again is not None:
                return self._from_header(block, at, *again)
        self.noise.join(read.noise)
        return self._taken(read.batch, at) if read.batch.rows else []

    def _taken(self, batch: RowBatch, at: Array) -> list[Taken]:
        columns = []
        for name, index in zip(self.wanted, self._indices, strict=True):
            if index is None:
                nothing = np.ones(batch.rows, np.bool_)
                columns.append(Samples(np.zeros(batch.rows, np.int64), nothing))
                continue
            found = read_samples(batch.numbers(index), self.form.decimal, batch.torn)
            if found.unreadable is not None and found.unreadable.size > batch.torn.size:
                self.unreadable[name] += found.unreadable.size - batch.torn.size
            columns.append(found)
        self.torn += batch.torn.size
        at = at[batch.lines]
        texts, times = self._times(batch, at)
        self.rows += batch.rows
        return [Taken(at, texts, times, columns)]

    def _times(self, batch: RowBatch, at: Array) -> tuple[pa.Array, Array]:
        """When each row was taken, as text and in seconds."""
        column = self.clock.column
        if column is not None:
            cells = column.texts(batch)
            try:
                texts = cells.cast(pa.string())
            except pa.ArrowInvalid:  # bytes that are no text
                found = [cell.decode("utf-8", "replace") for cell in cells.to_pylist()]
                texts = texts_to_arrow(found)
            return texts, self.clock.times(batch, self.rows)
        if self.clock.step is not None or not self.arrives:
            times = self.clock.times(batch, self.rows)
            if self.clock.step is not None:
                return texts_to_arrow([f"{t:.6g}" for t in times.tolist()]), times
            return texts_to_arrow([f"{t + 1:.0f}" for t in times.tolist()]), times
        # Lines that came together share their time.
        kinds, index = np.unique(at, return_inverse=True)
        texts = texts_to_arrow([f"{t:.3f}" for t in kinds.tolist()])
        return texts.take(to_arrow(index)), at

    def _other_header(self, block: bytes) -> tuple[int, tuple[str, ...]] | None:
        """A line that names all known columns in another order, and its names; a remark that has
        some of them in it is none, and columns that somebody declared stay."""
        assert self.blocks is not None
        shape = self.blocks.shape
        if self.form.columns is not None:
            return None
        for number, line in enumerate(block.decode("utf-8", "replace").split("\n")[:-1]):
            width = len(split(line, shape.delimiter))
            found = names_in(line, replace(shape, width=width), self.form)
            if found and sorted(found) == sorted(shape.names) and found != shape.names:
                return number, found
        return None

    def _from_header(
        self, block: bytes, at: Array, number: int, names: tuple[str, ...]
    ) -> list[Taken]:
        """The samples before a new header, and those behind it."""
        assert self.blocks is not None
        lines = block.split(b"\n")
        before = b"".join(line + b"\n" for line in lines[:number])
        found = self._read(before, at[:number]) if number else []
        shape = self.blocks.shape
        behind = dict(zip(shape.columns, shape.behind, strict=False))
        units = tuple(behind.get(name, "") for name in names) if behind else ()
        shape = replace(shape, names=names, width=len(names), behind=units)
        self.blocks = blocks_of(Head(shape, 0), self.form)
        indices: dict[str | int, int] = {name: index for index, name in enumerate(names)}
        indices |= {index + 1: index for index in range(len(names))}
        self._indices = [indices.get(column) for column in self.wanted]
        if self.clock.column is not None:
            name = self.clock.column.name
            known = names.index(name) if name in names else None
            self.clock.column = None if known is None else replace(self.clock.column, index=known)
        self.noise.counts["header"] += 1
        rest = b"\n".join(lines[number + 1 :])
        return [*found, *self._read(rest, at[number + 1 :])]

    def _without_long(self, block: bytes) -> bytes:
        ends = np.flatnonzero(np.frombuffer(block, np.uint8) == ord("\n"))
        if int(np.diff(ends, prepend=-1).max(initial=0)) <= LONGEST + 1:
            return block
        lines = block.split(b"\n")
        for i, line in enumerate(lines):
            if len(line) > LONGEST:
                self.noise.add("over-long", line[:60])
                lines[i] = self.form.comment.encode()
        return b"\n".join(lines)

    def _note_remark(self, block: bytes) -> None:
        sign = self.form.comment.encode()
        for line in reversed(block.split(b"\n")):
            if line.lstrip().startswith(sign):
                self.remark = line.lstrip(sign + b" \t").decode("utf-8", "replace").strip()
                return
