"""The look: one small palette, safe for colour-blind eyes, and a figure of a standard size."""

from __future__ import annotations

import io
import math
import re
import textwrap
import warnings
from typing import cast

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import to_rgb
from matplotlib.figure import Figure
from matplotlib.patches import Patch
from matplotlib.text import Text as MplText
from matplotlib.ticker import MaxNLocator

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


#: How wide a sign is, in inches for each point of its size.
SIGN = 0.0089


def inches_of(ax: Axes) -> tuple[float, float]:
    """How wide and high the axes are, or will be when they are laid out."""
    figure = cast(Figure, getattr(ax.figure, "figure", None) or ax.figure)  # of a part of one, too
    place = ax.get_position()
    wide, high = place.width, place.height
    if figure.get_layout_engine() is not None:
        spec = ax.get_subplotspec()
        grid = None if spec is None else spec.get_gridspec()
        wide, high = 0.97, 0.9
        if spec is not None and grid is not None:
            wide *= len(spec.colspan) / grid.ncols
            high *= len(spec.rowspan) / grid.nrows
            high -= 0.3 * (grid.nrows > 1) / figure.get_figheight()  # the title of each
    return float(figure.get_figwidth() * wide), float(figure.get_figheight() * high)


def titled(ax: Axes, text: str, size: float) -> Axes:
    """Axes with a title at the left, in smaller letters, then in more lines, where it is long."""
    wide = inches_of(ax)[0]
    if ax.figure.get_layout_engine() is not None:
        wide -= 0.3  # not yet laid out: the labels at the left take their room from the axes
    size = max(min(size, wide / (SIGN * max(1, len(text)))), min(size, LEAST))
    lines = textwrap.fill(text, max(8, int(wide / (SIGN * size))))
    ax.set_title(lines, color=JET, fontsize=size, loc="left")
    return ax


def few_ticks(ax: Axes, whole: bool = False) -> Axes:
    """Axes with as many ticks along the bottom as their labels leave room for. whole: at whole
    numbers only."""
    size = float(ax.xaxis.get_ticklabels()[0].get_fontsize()) if ax.xaxis.get_ticklabels() else 11.0
    low, high = ax.get_xlim()
    # Ends that are close together differ behind the point only.
    decimals = max(0, -math.floor(math.log10(abs(high - low) / 9))) if high != low else 0
    texts = (f"{end:.{decimals}f}" for end in (low, high))
    longest = max(
        len(text) if abs(end) >= 1 else min(len(text), len(f"{end:g}"))
        for end, text in zip((low, high), texts, strict=True)
    )
    room = int(0.8 * inches_of(ax)[0] / (SIGN * size * (longest + 2)))
    if room < 9 or whole:
        ax.xaxis.set_major_locator(MaxNLocator(min(max(1, room), 9), integer=whole))
    if max(map(abs, ax.get_xlim())) >= 1:  # a count of 24 bits is read as a whole
        ax.ticklabel_format(axis="x", style="plain", useOffset=False)
    return ax


#: Points that letters have at least.
LEAST = 8.0

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
    if form == "svg":
        data = re.sub(rb' d="[^"]*"', _hundredths, data)
    if form == "svg" and width_mm is not None:
        high = width_mm * figure.get_figheight() / figure.get_figwidth()
        size = f'width="{width_mm:g}mm" height="{high:.4g}mm"'.encode()
        data = re.sub(rb'width="[\d.]+pt" height="[\d.]+pt"', size, data, count=1)
    return data


def _hundredths(path: re.Match[bytes]) -> bytes:
    """A path in hundredths of a point, which nobody sees: half as long."""
    return re.sub(rb"(\.\d\d)\d+", rb"\1", path[0])


def is_dark(color: object) -> bool:
    """Whether letters on this colour have to be light."""
    red, green, blue = to_rgb(color)  # type: ignore[arg-type]
    return 0.299 * red + 0.587 * green + 0.114 * blue < 0.4


def suited(ax: Axes) -> Axes:
    """The axes in the style that is in force, where that is a dark one: what is jet on paper is
    then light on dark; our accents stay."""
    paper, ink = mpl.rcParams["axes.facecolor"], mpl.rcParams["text.color"]
    if not is_dark(mpl.rcParams["figure.facecolor"]) or is_dark(ink):
        return ax
    if same_color(ax.get_facecolor(), PAPER):
        ax.set_facecolor(paper)
    ax.tick_params(colors=ink)
    for artist in ax.findobj():
        box = artist.get_bbox_patch() if isinstance(artist, MplText) else None
        if box is not None and same_color(box.get_facecolor(), PAPER):
            box.set_facecolor(paper)
        elif box is not None:
            continue  # letters on a box of their own
        if isinstance(artist, Patch):
            if artist is not ax.patch and same_color(artist.get_facecolor(), JET):
                artist.set_edgecolor(GREY)  # a plate, which would be dark on dark
            continue
        for part in ("color", "markeredgecolor", "edgecolor"):
            get, put = getattr(artist, f"get_{part}", None), getattr(artist, f"set_{part}", None)
            if get is not None and put is not None and same_color(get(), JET):
                put(ink)
    return ax


def same_color(one: object, other: str) -> bool:
    """Whether a colour is this one, whatever it is written as; many at once are none."""
    try:
        return to_rgb(one) == to_rgb(other)  # type: ignore[arg-type]
    except (ValueError, TypeError):
        kinds = np.unique(np.atleast_2d(np.asarray(one, dtype=object)), axis=0)
        return len(kinds) == 1 and kinds.shape[-1] >= 3 and to_rgb(tuple(kinds[0])) == to_rgb(other)
