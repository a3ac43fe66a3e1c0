"""A ruler to slide: a channel's ruler with a handle, for reports and notebooks.

One piece of HTML with its own script and nothing from elsewhere. Its texts are those of the tool at
every count, packed; a wide converter has them at evenly spaced counts, and the handle stops there.
"""

from __future__ import annotations

import base64
import gzip
import json
import math
from html import escape
from typing import Any

import numpy as np
from jinja2 import Environment, PackageLoader, StrictUndefined

from ..core.bench.channel import Channel
from ..core.error_types import JetRulerError
from ..core.numerics import Array
from ..core.ruler.base_law import Role
from ..core.ruler.raw_range import raw_ends
from ..core.ruler.reading import flag_names
from ..core.ruler.ruler import written
from ..core.ruler.units import number, raw_symbol, rounded, shown, significant, symbol
from ..core.uncertainty.budget import expanded_uncertainty
from .ticks import EdgeKind, Tick, edge_kind, labelled, round_step, round_values, true_ticks

#: Stops of a handle: every count of up to 12 bits, or this many steps of a wider one.
STOPS = 4096
#: The drawing, in its own units.
WIDTH, HEIGHT, MARGIN = 1000, 190, 40
TOP, BOTTOM = 50, 140


def stops(channel: Channel) -> Array:
    """The raw values at which the handle stops. Raises `ParameterError` where there are no ends."""
    low, high = raw_ends(channel.ruler)
    edge = channel.ruler.edge
    step = float(edge.lsb) if edge is not None and edge.lsb else (high - low) / STOPS
    many = math.floor((high - low) / step + 1e-9)
    every = max(1, math.ceil(many / STOPS))
    found: Array = low + step * every * np.arange(many // every + 1.0)
    return found if found[-1] >= high else np.concatenate((found, [high]))


def columns(channel: Channel, raw: Array) -> dict[str, list[str]]:
    """The texts of each row of the slider at some raw values, as `explain` has them."""
    ruler = channel.ruler
    with np.errstate(all="ignore"):
        joints = channel.chain.joints(raw)
        reading = ruler.read(raw)
        zoned = edge_kind(ruler) is EdgeKind.ZONES
        wide = np.full(raw.size, np.nan) if zoned else expanded_uncertainty(channel, raw)
    found = {raw_symbol(ruler.takes): [number(float(x)) for x in raw]}
    converter = channel.chain.converter
    if converter is not None and converter.vref and converter.full_count:
        found["at the pin"] = _texts(raw / converter.full_count * float(converter.vref), "V")
    steps = list(zip(channel.chain.laws, channel.chain.units[1:], joints[1:], strict=True))
    for i, (law, unit, x) in enumerate(steps[:-1], start=1):
        if written((law,)) and law.changes_value and law.role is not Role.CONVERTER:
            found[f"{i} {law.name}"] = _texts(x, unit)
    values = np.asarray(reading.value, np.float64)
    found["value"] = [channel.shown(float(value)) for value in values]
    found["±, 95 %"] = _half_widths(wide, symbol(channel.unit))
    flags = {int(bits): ", ".join(flag_names(int(bits))) for bits in np.unique(reading.flags)}
    found["flags"] = [flags[int(bits)] for bits in np.asarray(reading.flags)]
    return {name: texts for name, texts in found.items() if any(texts)}


def _texts(values: Array, unit: str | None) -> list[str]:
    """Numbers of six digits with their unit: as `shown` has them, which thousands of calls are too
    slow for."""
    behind = f" {symbol(unit)}".rstrip()
    texts = [f"{value:.6g}".replace("-", "−") for value in values.tolist()]
    odd = {
        i: "–" if value != value or math.isinf(value) else shown(significant(value, 6), unit)
        for i, value in enumerate(values.tolist())
        if "e" in texts[i] or "n" in texts[i]
    }
    return [odd.get(i, text + behind) for i, text in enumerate(texts)]


def _half_widths(wide: Array, unit: str) -> list[str]:
    """Half-widths to two digits, each of which is written once."""
    with np.errstate(all="ignore"):
        power = 10.0 ** (np.floor(np.log10(wide)) - 1)
        kinds, index = np.unique(np.rint(wide / power) * power, return_inverse=True)
    texts = [
        f"{rounded(u, u)[1]} {unit}".strip() if math.isfinite(u) else "" for u in kinds.tolist()
    ]
    return [texts[i] for i in index.tolist()]


def packed(data: Any) -> str:
    """Data as JSON, packed and in letters that HTML takes."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"))
    packet = bytearray(gzip.compress(text.encode(), 9, mtime=0))
    packet[9] = 255  # the system that made it, which Pythons say differently, is of no use
    return base64.b64encode(packet).decode()


def slider(channel: Channel, at: float | None = None, script: bool = True) -> str:
    """The component; a sentence where the ruler has no ends to slide between. script: whether its
    style and script are before it; a page needs them once."""
    try:
        raw = stops(channel)
    except JetRulerError as error:
        return f"<p>{escape(str(error))}</p>"
    texts = columns(channel, raw)
    middle = float(raw[raw.size // 2]) if at is None else at
    start = int(np.argmin(np.abs(raw - middle)))
    step = float(raw[1] - raw[0]) if raw.size > 1 else 1.0
    data = {
        "raw": [float(raw[0]), step, float(raw[-1])],
        "rows": list(texts.values()),
        "value": list(texts).index("value"),
        "left": MARGIN,
        "wide": WIDTH - 2 * MARGIN,
    }
    edge = channel.ruler.edge
    lsb = float(edge.lsb) if edge is not None and edge.lsb else 0.0
    apart = "" if not lsb or step <= lsb else f"It stops at every {round(step / lsb)}th count."
    return _ENVIRONMENT.get_template("slider.html").render(
        script=script,
        title=channel.title + (f": {channel.about}" if channel.about else ""),
        drawing=_drawing(channel, float(raw[0]), float(raw[-1])),
        head=list(texts),
        first=[rows[start] for rows in texts.values()],
        last=raw.size - 1,
        start=start,
        data=packed(data),
        apart=apart,
    )


_ENVIRONMENT = Environment(
    loader=PackageLoader("jetruler.show", "templates"), autoescape=True, undefined=StrictUndefined
)


def _drawing(channel: Channel, low: float, high: float) -> str:
    """The plate with its two edges, as SVG; the script moves the line `jet-cursor`."""
    scale = (WIDTH - 2 * MARGIN) / (high - low)

    def x(raw: float) -> str:
        return f"{MARGIN + (raw - low) * scale:.1f}"

    over = (low, high)
    above = [Tick(v, v, number(v)) for v in round_values(low, high, 10)]
    fine_above = round_values(low, high, int((high - low) / round_step(high - low, 10) * 5 + 1))
    below = true_ticks(channel.ruler, 16, channel.limits)
    fine_below = [t.raw for t in true_ticks(channel.ruler, 80, channel.limits) if t.is_line]
    lines = [(v, TOP, 8) for v in fine_above] + [(t.raw, TOP, 16) for t in above]
    lines += [(v, BOTTOM, -8) for v in fine_below]
    lines += [(t.raw, BOTTOM, -16) for t in below if t.is_line]
    ticks = "".join(f'<path d="M{x(v)} {y}v{deep}"/>' for v, y, deep in lines)
    texts = "".join(
        f'<text x="{x(place)}" y="{y}">{escape(tick.label)}</text>'
        for ticks_of, y in ((above, TOP + 34), (below, BOTTOM - 24))
        for tick, place in labelled(ticks_of, over, None, sign=0.0092)
    )
    units = "".join(
        f'<text x="8" y="{y}" class="jet-unit">{escape(unit)}</text>'
        for unit, y in ((raw_symbol(channel.ruler.takes), TOP - 8), (symbol(channel.unit), 158))
    )
    return (
        f'<svg viewBox="0 0 {WIDTH} {HEIGHT}" role="img" aria-hidden="true">'
        f'<rect x="{MARGIN - 20}" y="{TOP}" width="{WIDTH - 2 * MARGIN + 40}" '
        f'height="{BOTTOM - TOP}" rx="10"/><g class="jet-ticks">{ticks}</g>{texts}{units}'
        '<path class="jet-cursor" d="M0 40V150"/></svg>'
    )
