"""Results as text: tables laid out by Rich, in columns as wide as what stands in them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from io import StringIO

from rich.console import Console
from rich.style import Style
from rich.table import Table
from rich.text import Text

from ..core.model.result import Content, Item, TextTable, Title

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
                yield Text(f"{' ' * MARK} {encoded(line)}")
        else:
            for line in encoded(part).split("\n"):
                yield Text(line, style=BOLD if isinstance(part, Title) else "")


def item_head(item: Item, encoded: Callable[[str], str] = str) -> Text:
    """The first line of an item."""
    return Text.assemble((f"{item.mark:<{MARK}}", GRADES[item.grade]), " ", encoded(item.text))


def table_lines(table: TextTable, encoded: Callable[[str], str] = str) -> Iterator[Text]:
    """The lines of a table, whole: numbers end at the right, words begin at the left."""
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.show_header, grid.header_style = True, BOLD
    for place, heading in enumerate(table.headings):
        left = place in table.at_left
        grid.add_column(Text(encoded(heading)), justify="left" if left else "right", no_wrap=True)
    for row in table.rows:
        grid.add_row(*(Text(encoded(cell)) for cell in row))
    console = Console(file=StringIO(), width=WIDEST, color_system=None)
    for segments in console.render_lines(grid, pad=False):
        line = Text.assemble(*((segment.text, segment.style or "") for segment in segments))
        line.rstrip()
        yield line


def table_width(table: TextTable, encoded: Callable[[str], str] = str) -> int:
    """How many columns of a terminal a table takes."""
    return max(line.cell_len for line in table_lines(table, encoded))
