"""The double-edged ruler as SVG: raw values above the line, true values below."""

from __future__ import annotations

from html import escape

import numpy as np

from ..core.error_types import JetRulerError
from ..core.model.ruler import Ruler
from ..core.model.text import number
from ..core.model.ticks import raw_ends, raw_samples, round_values, true_ticks
from ..core.model.units import raw_symbol, symbol

WIDTH, HEIGHT, MARGIN = 720, 96, 40
#: Ticks that are wanted on each edge, and how near two labels may come.
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
    above = [(at(raw), number(raw)) for raw in round_values(low, high, RAW)]
    below = sorted((at(tick.raw), tick.label) for tick in ticks if np.isfinite(tick.raw))
    for marks, end, baseline in ((above, -8, -14), (below, 8, 24)):
        last = -np.inf
        for x, text in marks:
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
