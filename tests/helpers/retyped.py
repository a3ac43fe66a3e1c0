"""A worked line, typed again with the numbers that it prints."""

from __future__ import annotations

import math
import re
from itertools import pairwise

#: Signs that lines are written with, as Python reads them.
SIGNS = {"−": "-", "·": "*", "^": "**", "²": "**2", "³": "**3"}
UNIT = (
    r"(?<=[\d)])\s*(?:count|m?V|Ω|°C|°F|K|m?A|%|bar|kPa|psi|mm|in|cm|g|m/s²|Hz|fraction)(?![\w/])"
)
NUMBER = re.compile(r"-?\d+\.?\d*(?:e[-+]?\d+)?\Z")


def computed(text: str) -> float | None:
    """The number that a part of a line is; None for symbols and words."""
    text = re.sub(UNIT, "", text).strip()
    for sign, plain in SIGNS.items():
        text = text.replace(sign, plain)
    text = re.sub(r"\*\*(\d)(?=\d|\.)", r"**\1", text)
    text = re.sub(r"\bln (-?[\d.e+-]+)", r"ln(\1)", text)
    # What is raised to a power stands in brackets or is positive.
    try:
        value = eval(
            text, {"__builtins__": {}}, {"ln": math.log, "exp": math.exp, "sqrt": math.sqrt}
        )
    except (NameError, SyntaxError, TypeError):
        return None
    except ArithmeticError:
        return math.nan
    return float(value) if isinstance(value, int | float) else None


def computed_text(text: str) -> str:
    """A printed number without its unit."""
    return re.sub(UNIT, "", text).strip()


def check_line(line: str) -> int:
    """Every part of the line that is numbers gives the next; how many were held against it."""
    done = 0
    for sentence in line.split("; "):
        on_line = re.match(
            r"\w on the straight line from \((.+), (.+)\) to \((.+), (.+)\) at (.+) = (.+)",
            sentence,
        )
        if on_line:
            x0, y0, x1, y1, x, y = (computed(part) for part in on_line.groups())
            assert None not in (x0, y0, x1, y1, x, y), line
            agree(y0 + (x - x0) * (y1 - y0) / (x1 - x0), y, line, on_line[6])  # type: ignore[operator, arg-type]
            done += 1
            continue
        each = [p.removeprefix("T = ").strip() for p in re.split(r" = |→", sentence)]
        if "rounded" in sentence or "solved" in sentence:
            continue
        if re.fullmatch(r"\S+ \S+", each[0]) and len(each) == 3:
            each = each[1:]  # the same quantity in another unit
        found = [(p, value) for p in each if (value := computed(p)) is not None]
        for (left, value), (right, printed) in pairwise(found):
            if "→" in sentence and left == found[0][0]:
                value = 1.0 / value
            if right[-1:] in "CF" and left.endswith(" K"):
                value = (value - 273.15) * (1.8 if "F" in right else 1) + 32 * ("F" in right)
            elif right.endswith(" K") and left[-1:] in "CF":
                value = (value - 32 * ("F" in left)) / (1.8 if "F" in left else 1) + 273.15
            agree(value, printed, line, right)
            done += 1
    return done


def agree(found: float, printed: float, line: str, text: str) -> None:
    """To the last digit of what is printed: half a unit of it, or of the sixth."""
    if math.isnan(found) and math.isnan(printed):
        return
    digits = re.sub(r"e.*|\D", "", computed_text(text).lower().split("e")[0]).lstrip("0")
    last = max(6, len(digits))
    unit = 10.0 ** (math.floor(math.log10(abs(printed))) - last + 1) if printed else 1e-12
    assert abs(found - printed) <= 0.52 * unit, f"{found} for {printed}: {line}"
