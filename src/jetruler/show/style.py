"""The look: one small palette, safe for colour-blind eyes, and a figure of a standard size."""

from __future__ import annotations

import io
import re
import warnings

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure

JET = "#16140f"
IVORY = "#f4ecd8"
AMBER = "#ffb000"
BLUE = "#1f6fb4"
RED = "#c8321e"
PAPER = "#fffdf7"
GREY = "#8a8578"


def new_figure(width: float = 12.8, height: float = 8.0) -> Figure:
    """An empty figure, 1280 × 800 unless said otherwise."""
    return Figure(figsize=(width, height), dpi=100, facecolor=PAPER, layout="constrained")


def plain(ax: Axes) -> Axes:
    """Axes without a box, ticks in jet, a light grid."""
    ax.set_facecolor(PAPER)
    ax.grid(color=JET, alpha=0.12, linewidth=0.8)
    for side in ("top", "right"):
        ax.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        ax.spines[side].set_color(JET)
    ax.tick_params(colors=JET, labelsize=11)
    return ax


#: Dots an inch of a picture that is to be printed at a width.
PRINT = 300.0


def rendered(figure: Figure, form: str, width_mm: float | None = None) -> bytes:
    """The figure as PNG or SVG bytes; the same figure gives the same bytes. width_mm: how wide it
    is to be on paper; all of it is then scaled."""
    with warnings.catch_warnings():
        # A sign that the font has not is drawn as a box: nothing that anybody can do about.
        warnings.filterwarnings("ignore", "Glyph .* missing from font", UserWarning)
        return _rendered(figure, form, width_mm)


def _rendered(figure: Figure, form: str, width_mm: float | None) -> bytes:
    if (layout := figure.get_layout_engine()) is not None:
        layout.execute(figure)
        figure.set_layout_engine(None)  # else Matplotlib draws all of it twice
    target = io.BytesIO()
    undated: dict[str, str | None] = {"Date": None} if form == "svg" else {"Software": None}
    dpi = figure.dpi if width_mm is None else PRINT * width_mm / 25.4 / figure.get_figwidth()
    with mpl.rc_context({"svg.hashsalt": "jet-ruler"}):
        figure.savefig(target, format=form, metadata=undated, dpi=dpi)
    data = target.getvalue()
    if form == "svg" and width_mm is not None:
        high = width_mm * figure.get_figheight() / figure.get_figwidth()
        size = f'width="{width_mm:g}mm" height="{high:.4g}mm"'.encode()
        data = re.sub(rb'width="[\d.]+pt" height="[\d.]+pt"', size, data, count=1)
    return data
