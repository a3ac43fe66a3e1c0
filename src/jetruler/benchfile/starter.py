"""A commented bench file to start from: filled-in examples, or one channel a column of a log."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from ..core.model.units import usual

HEAD = """\
# A bench file: what is wired to what. Every command of jetruler reads it.
# docs/bench-file.md has everything that can stand here, docs/laws.md every law.
title = "{title}"

[converter] # for every channel that does not bring its own
bits = {bits}{bits_note}
vref = "3.3 V ± 1 %" # measure it with a meter
# The top count reads vref; if the datasheet's LSB is vref / 2^bits, say:
# count_at_vref = {full}
"""

TAIL = """
# What shall happen when, for `jetruler live` and `convert --events` (docs/live.md):
# [trip.too-hot]
# any = [{{ channel = "{first}", above = 100, release = 95 }}]
# [drive.fan]
# from = "too-hot"
# safe = 0
"""

#: An example of each kind of sensor: what it is about, its laws, and further keys.
KINDS: dict[str, tuple[str, str]] = {
    "volts": ("volts at the pin, to be checked with a meter", "laws = []\ndecimals = 3"),
    "counts": (
        "counts as they are",
        'laws = [{ law = "counts", bits = {bits} }]\ndecimals = 0',
    ),
    "ntc": (
        "NTC thermistor in the lower leg, under a fixed resistor to the reference",
        """laws = [
  { law = "divider", known = "10 kohm ± 1 %", sensor = "lower" }, # the fixed resistor
  { law = "beta", r0 = "10 kohm ± 3 %", beta = 3435, t0 = "25 degC" }, # from the datasheet
]
limits = [-20, 120]
decimals = 1
# smooth = { kind = "median", over = 5 }""",
    ),
    "platinum": (
        "100 Ω platinum in the lower leg, under a fixed resistor to the reference",
        """laws = [
  { law = "divider", known = "1 kohm ± 0.1 %", sensor = "lower" },
  { law = "platinum", r0 = 100 },
]
limits = [-50, 300]
decimals = 1""",
    ),
    "knob": (
        "knob or lever; `jetruler look LOG --ends NAME --write` finds its ends",
        """laws = [
  { law = "line", marks = [[{low}, 0], [{high}, 100]], unit = "%" },{ends_note}
  { law = "clamp", low = 0, high = 100 },
]
decimals = 1""",
    ),
    "loop": (
        "4–20 mA transmitter over a shunt",
        """laws = [
  { law = "shunt", ohms = "150R ± 0.5 %" },
  { law = "expect", low = "3.6 mA", high = "21 mA" }, # below: a broken loop; above: a short
  { law = "line", marks = [["4 mA", 0], ["20 mA", 100]], unit = "%" }, # what 20 mA stands for
]
decimals = 1""",
    ),
    "rail": (
        "supply behind an attenuator",
        """laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
limits = [10.8, 13.2]
decimals = 2""",
    ),
    "light": (
        "light sensor, dark to bright, in zones",
        """laws = [
  { law = "line", marks = [[{low}, 0], [{high}, 100]], unit = "%" },{ends_note}
  { law = "zones", edges = [20, 70], values = ["dark", "dim", "bright"] },
]""",
    ),
}

#: What is written where nothing is asked for.
EXAMPLES = {"bean": "ntc", "damper": "knob"}


@dataclass(frozen=True)
class SeenColumn:
    """What a log shows of a column: its name, bits, the ends of its counts, and their step (16
    for a 12-bit result left-scaled to 16). bits: None for values that are no counts, in steps of
    `lsb`."""

    column: str | int
    bits: int | None
    low: float
    high: float
    lsb: float = 1


def starter(
    kinds: Mapping[str, str], seen: Sequence[SeenColumn] = (), title: str = "My bench"
) -> str:
    """The text of a bench file. kinds: channel → kind; those not in the log get a column by
    number. With what a log shows, every column has a channel, and each guess is marked."""
    # One board has one converter; left-scaled results say their own size.
    bits = max((s.bits for s in seen if s.bits and s.lsb == 1), default=12)
    note = " # a guess: the smallest usual size that holds all counts" if seen else ""
    parts = [HEAD.format(title=title, bits=bits, bits_note=note, full=2**bits)]
    by_name = {_channel_name(str(s.column)): s for s in seen}
    wanted = dict.fromkeys(by_name, "volts") if seen else {}
    wanted |= dict(kinds) if kinds or seen else EXAMPLES
    for place, (name, kind) in enumerate(wanted.items(), start=2):
        found = by_name.get(name)
        about, body = KINDS[kind]
        if found is not None and found.bits is None and kind == "volts":
            about, body = "values as they come", ""
        column = (
            json.dumps(found.column, ensure_ascii=False)
            if found
            else f"{place} # by name, or by number from 1 (the time, often)"
        )
        low, high = (found.low, found.high) if found else (40, 2**bits - 41)
        ends = " # a guess: the ends of the log" if found else " # your knob's own ends"
        filled = body.replace("{low}", str(low)).replace("{high}", str(high))
        filled = filled.replace("{ends_note}", ends).replace("{bits}", str(bits))
        own = "" if found is None else _own_converter(found, bits)
        parts.append(f'\n[channel.{name}]\ncolumn = {column}\nabout = "{about}"\n{own}{filled}\n')
        if found:
            what = "counts" if found.bits else "values"
            parts.append(f"# the log's {what} run from {found.low:g} to {found.high:g}\n")
    return "".join([*parts, TAIL.format(first=next(iter(wanted)))])


def _own_converter(seen: SeenColumn, bits: int) -> str:
    """What differs from the common converter, marked as the guess it is."""
    if seen.bits is None:
        name = str(seen.column).rpartition("_")[2].strip("() ")
        unit = name if "_" in str(seen.column) and usual(name) else "1"
        table = f'input = {{ unit = "{unit}", resolution = {seen.lsb:g} }}'
        return f'{table} # a guess: say its unit, as in "V" or "cm", and its range\n'
    if seen.lsb == 1:
        return ""
    codes = seen.bits + 1 - int(seen.lsb).bit_length()
    why = f"codes of {codes} bits, left-scaled"
    return f"converter = {{ bits = {seen.bits}, codes = {codes} }} # a guess: {why}\n"


def _channel_name(column: str) -> str:
    """A column's name as a channel may be called."""
    name = re.sub(r"\W+", "_", column).strip("_") or "column"
    return name if not name[0].isdigit() else f"column_{name}"
