"""Results as text and HTML: tables laid out by Rich, worked solutions, a ruler drawn as SVG."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator, Mapping, Sequence
from html import escape
from io import StringIO
from typing import Any

import numpy as np
from rich.console import Console
from rich.style import Style
from rich.table import Table
from rich.text import Text

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel, ruler_of
from ..core.error_types import JetRulerError, printable
from ..core.result import Content, Item, Result, TextTable, Title
from ..core.ruler.raw_range import raw_ends, raw_samples
from ..core.ruler.reading import Trace
from ..core.ruler.ruler import Ruler
from ..core.ruler.units import number, raw_symbol, significant, symbol
from .ticks import round_values, true_ticks

#: Wider than any table: a line that a window is too narrow for is broken there, and no cell is cut.
WIDEST = 1 << 20
BOLD = Style(bold=True)
#: Of error, warning and note: the palette's red, a darker amber that reads on white, its blue.
GRADES = tuple(Style(color=color, bold=True) for color in ("#c8321e", "#b97a00", "#1f6fb4"))
#: As wide is the mark of an item.
MARK = 7


def text(content: Content) -> str:
    """What a result prints, as plain text."""
    return "\n".join(line.plain for line in lines(content))


def lines(content: Content, encoded: Callable[[str], str] = str) -> Iterator[Text]:
    """The lines of some content, with their styles. encoded: what becomes of a text before it is
    laid out, where the stream has not all signs."""
    for part in content:
        if isinstance(part, TextTable):
            yield from table_lines(part, encoded)
        elif isinstance(part, Item):
            yield item_head(part, encoded)
            for line in part.below:
                yield Text(f"{' ' * MARK} {encoded(printable(line))}")
        else:
            for line in part.split("\n"):
                shown = encoded(printable(line))
                yield Text(shown, style=BOLD if isinstance(part, Title) else "")


def item_head(item: Item, encoded: Callable[[str], str] = str) -> Text:
    """The first line of an item."""
    return Text.assemble(
        (f"{item.mark:<{MARK}}", GRADES[item.grade]), " ", encoded(printable(item.text))
    )


def table_lines(table: TextTable, encoded: Callable[[str], str] = str) -> Iterator[Text]:
    """The lines of a table, whole: numbers end at the right, words begin at the left."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.show_header, grid.header_style = True, BOLD
    for place, heading in enumerate(table.headings):
        left = place in table.at_left
        shown = Text(encoded(printable(heading)))
        grid.add_column(shown, justify="left" if left else "right", no_wrap=not table.wrapped)
    for row in table.rows:
        grid.add_row(*(Text(encoded(printable(cell))) for cell in row))
    width = shutil.get_terminal_size((WIDEST, 0)).columns if table.wrapped else WIDEST
    console = Console(file=StringIO(), width=width, color_system=None)
    for segments in console.render_lines(grid, pad=False):
        line = Text.assemble(*((segment.text, segment.style or "") for segment in segments))
        line.rstrip()
        yield line


def table_width(table: TextTable, encoded: Callable[[str], str] = str) -> int:
    """How many columns of a terminal a table takes."""
    return max(line.cell_len for line in table_lines(table, encoded))


WIDTH, HEIGHT, MARGIN = 720, 96, 40
#: Ticks that are needed on each edge, and how near two labels may come.
RAW, TRUE, ROOM = 8, 10, 34
_STYLE = 'font-family="sans-serif" font-size="12" text-anchor="middle" fill="currentColor"'


def _usual(ruler: Ruler) -> tuple[float, float] | None:
    """The values that all but the outermost raw values read, where those few would crowd all others
    into a corner; None where they would not."""
    values = np.asarray(ruler(raw_samples(ruler)), dtype=np.float64)
    values = values[np.isfinite(values)]
    if not values.size:
        return None
    low, high = np.quantile(values, [0.02, 0.98]).tolist()
    return (low, high) if np.ptp(values) > 3 * (high - low) > 0 else None


def ruler_svg(ruler: Ruler, limits: tuple[float, float] | None = None) -> str:
    """Return the drawing; a sentence where a ruler has no ends to draw between. limits: true values
    outside have no mark."""
    try:
        low, high = raw_ends(ruler)
        ticks = true_ticks(ruler, TRUE, limits or _usual(ruler))
    except JetRulerError as error:
        return f"<p>{escape(str(error))}</p>"

    def at(raw: float) -> float:
        return MARGIN + (raw - low) / (high - low) * (WIDTH - 2 * MARGIN)

    middle = HEIGHT / 2
    parts = [f'<line x1="{MARGIN}" x2="{WIDTH - MARGIN}" y1="{middle}" y2="{middle}"/>']
    texts = []
    above = [(at(raw), number(raw), True) for raw in round_values(low, high, RAW)]
    below = [(at(tick.raw), tick.label, tick.is_line) for tick in ticks if np.isfinite(tick.raw)]
    for marks, end, baseline in ((above, -8, -14), (sorted(below), 8, 24)):
        last = -np.inf
        for x, text, is_line in marks:
            if is_line:
                parts.append(f'<line x1="{x:.1f}" x2="{x:.1f}" y1="{middle}" y2="{middle + end}"/>')
            if x - last >= ROOM:
                texts.append(f'<text x="{x:.1f}" y="{middle + baseline}">{escape(text)}</text>')
                last = x
    for unit, y in ((raw_symbol(ruler.takes), 14), (symbol(ruler.gives), HEIGHT - 6)):
        texts.append(f'<text x="{MARGIN / 2}" y="{y}">{escape(unit)}</text>')
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {HEIGHT}" width="{WIDTH}">'
        f'<g stroke="currentColor">{"".join(parts)}</g><g {_STYLE}>{"".join(texts)}</g></svg>'
    )


#: Rows of a table that are shown; a frame has all of them.
ROWS = 30
_LEFT = ' style="text-align:left"'


def html(thing: Any) -> str:
    """Return a result, a trace, a channel, a ruler or a law as HTML."""
    if isinstance(thing, Trace):
        steps: dict[str, Sequence[Any]] = {
            "law": [step.law for step in thing.steps],
            "worked": [step.line for step in thing.steps],
        }
        return f"{as_table(steps)}<p>= {escape(str(thing.reading))}</p>"
    if isinstance(thing, Result):
        return f"<p>{escape(thing.headline)}</p>{as_table(thing.table)}"
    if isinstance(thing, Bench):
        return f"<p>{escape(thing.title)}</p>{as_table(_channels(thing))}"
    ruler = ruler_of(thing)
    if isinstance(thing, Channel):
        from .slider import slider  # a log that is looked at needs no templates

        return f"{slider(thing)}<p><code>{escape(_chain(ruler))}</code></p>"
    return f"{ruler_svg(ruler)}<p><code>{escape(_chain(ruler))}</code></p>"


def _channels(bench: Bench) -> dict[str, list[Any]]:
    """The channels of a bench as a table."""
    each = list(bench.channels.values())
    return {
        "channel": [channel.name for channel in each],
        "column": [channel.column for channel in each],
        "unit": [symbol(channel.unit) or "" for channel in each],
        "laws": [_chain(channel.chain) for channel in each],
        "about": [channel.about for channel in each],
    }


def as_table(columns: Mapping[str, Sequence[Any]]) -> str:
    """Columns as a table; what is too long for a page is counted."""
    rows = list(zip(*columns.values(), strict=True))
    head = "".join(
        f"<th{_LEFT if any(isinstance(cell, str) for cell in cells) else ''}>{escape(name)}</th>"
        for name, cells in columns.items()
    )
    body = "".join("<tr>" + "".join(map(_cell, row)) + "</tr>" for row in rows[:ROWS])
    more = f"<p>and {len(rows) - ROWS} more: to_frame() has all</p>" if len(rows) > ROWS else ""
    return f"<table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table>{more}"


def _cell(cell: Any) -> str:
    """A cell: texts begin at the left, numbers have four digits."""
    if isinstance(cell, float):
        cell = None if cell != cell else number(significant(cell, 4))
    elif isinstance(cell, str):
        return f"<td{_LEFT}>{escape(cell)}</td>"
    return f"<td>{'–' if cell is None else escape(str(cell))}</td>"


def _chain(ruler: Ruler) -> str:
    return " >> ".join(law.name for law in ruler.laws)
