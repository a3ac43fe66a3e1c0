"""What overlaps in a figure: texts one another, and legends the curves."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations, pairwise
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.text import Text
from matplotlib.transforms import Bbox

#: Pixels by which boxes may touch: a letter seldom fills its box.
SLACK = 2.0


def overlaps(figure: Figure) -> list[str]:
    """Each pair of texts that overlap, each text that is cut at the figure's edge, and each legend
    that lies on a curve, in words."""
    texts = list(_drawn(figure))
    found = [
        f"{a.get_text()!r} on {b.get_text()!r}"
        for (a, box_a), (b, box_b) in combinations(texts, 2)
        if _common(box_a, box_b)
    ]
    whole = figure.bbox
    found += [
        f"{text.get_text()!r} is cut"
        for text, box in texts
        if box.x0 < whole.x0 - SLACK
        or box.x1 > whole.x1 + SLACK
        or box.y0 < whole.y0 - SLACK
        or box.y1 > whole.y1 + SLACK
    ]
    for ax in figure.axes:
        found += _legend_on_curves(ax)
    return found


def _drawn(figure: Figure) -> Iterator[tuple[Text, Bbox]]:
    """The texts that are drawn: a tick beyond the end of its axis has one that is not."""
    canvas: Any = FigureCanvasAgg(figure)
    canvas.draw()
    drawn: dict[int, Text] = {}
    draw = Text.draw

    def noting(self: Text, *args: object, **kwargs: object) -> None:
        drawn[id(self)] = self
        draw(self, *args, **kwargs)  # type: ignore[arg-type]

    Text.draw = noting  # type: ignore[method-assign, assignment]
    try:
        canvas.draw()
    finally:
        Text.draw = draw  # type: ignore[method-assign]
    for text in drawn.values():
        box = text.get_window_extent(canvas.get_renderer())
        if text.get_visible() and text.get_text().strip() and box.width > 1:
            yield text, box


def _common(a: Bbox, b: Bbox) -> bool:
    wide = min(a.x1, b.x1) - max(a.x0, b.x0)
    high = min(a.y1, b.y1) - max(a.y0, b.y0)
    return bool(wide > SLACK and high > SLACK)


def _legend_on_curves(ax: Axes) -> list[str]:
    legend = ax.get_legend()
    if legend is None or not legend.get_visible():
        return []
    box = legend.get_window_extent()
    found = []
    for line in ax.get_lines():
        points = ax.transData.transform(np.column_stack(line.get_data(orig=False)))
        if line.get_transform() is not ax.transData or len(points) < 2:
            continue
        inside = _inside(points, box)
        if inside:
            found.append(f"the legend lies on {line.get_label()!r}")
    return found


def _inside(points: np.ndarray, box: Bbox) -> bool:
    """Whether a curve goes through a box."""
    points = points[np.isfinite(points).all(axis=1)]
    for (x0, y0), (x1, y1) in pairwise(points):
        t = np.linspace(0, 1, 8)
        x, y = x0 + t * (x1 - x0), y0 + t * (y1 - y0)
        within = (box.x0 + SLACK < x) & (x < box.x1 - SLACK)
        within &= (box.y0 + SLACK < y) & (y < box.y1 - SLACK)
        if within.any():
            return True
    return False
