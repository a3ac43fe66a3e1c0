"""Numbers with their uncertainty as metrologists write them: two digits, and the value to match."""

from __future__ import annotations

import math
from decimal import ROUND_HALF_EVEN, Decimal

from ..model.text import shown
from ..model.units import symbol


def rounded(value: float, uncertainty: float) -> tuple[str, str]:
    """Value and uncertainty as texts: the uncertainty to two significant digits, the value to the
    same place. `(225.314, 2.5534)` → `("225.3", "2.6")`. An uncertainty of 0, or none, leaves the
    value at six digits. Source: JCGM 100:2008, 7.2.6."""
    if not (math.isfinite(value) and math.isfinite(uncertainty) and uncertainty > 0):
        return shown(value), shown(uncertainty) if uncertainty == uncertainty else "–"
    place = Decimal(1).scaleb(math.floor(math.log10(uncertainty)) - 1)
    exact = Decimal(uncertainty)
    if exact.quantize(place, ROUND_HALF_EVEN) >= 100 * place:  # 0.0996 → 0.10
        place = place.scaleb(1)
    texts = [_to(Decimal(number), place) for number in (value, uncertainty)]
    return texts[0].replace("-", "−"), texts[1]


def _to(number: Decimal, place: Decimal) -> str:
    kept = (number / place).to_integral_value(ROUND_HALF_EVEN) * place
    return f"{abs(kept) if kept == 0 else kept:f}"


def with_uncertainty(value: float, uncertainty: float, unit: str | None = None) -> str:
    """`(225.3 ± 2.6) °C`; very small or large ones with their power of ten in front."""
    if not (math.isfinite(uncertainty) and uncertainty > 0):
        return shown(value, unit)
    size = max(abs(value), uncertainty)
    power = math.floor(math.log10(size)) if math.isfinite(size) else 0
    scale, factor = 1.0, ""
    if power < -3 or power > 6:
        scale, factor = 10.0**power, f"·1e{power}"
    a, b = rounded(value / scale, uncertainty / scale)
    brackets = f"({a} ± {b}){factor}"
    return f"{brackets} {symbol(unit)}" if unit else (brackets if factor else f"{a} ± {b}")
