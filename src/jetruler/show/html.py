"""A thing as HTML: the sentence above its table, a worked solution line by line, a ruler drawn."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape
from typing import Any

from ..core.model.channel import Channel, ruler_of
from ..core.model.result import Result
from ..core.model.ruler import Ruler
from ..core.model.text import number
from ..core.model.trace import Trace
from .ruler_svg import ruler_svg

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
    title = thing.title if isinstance(thing, Channel) else ""
    ruler = ruler_of(thing)
    about = f"<p><b>{escape(title)}</b> {escape(thing.about)}</p>" if title else ""
    limits = thing.limits if isinstance(thing, Channel) else None
    return f"{about}{ruler_svg(ruler, limits)}<p><code>{escape(_chain(ruler))}</code></p>"


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
        cell = None if cell != cell else number(float(f"{cell:.4g}"))
    elif isinstance(cell, str):
        return f"<td{_LEFT}>{escape(cell)}</td>"
    return f"<td>{'–' if cell is None else escape(str(cell))}</td>"


def _chain(ruler: Ruler) -> str:
    return " >> ".join(law.name for law in ruler.laws)
