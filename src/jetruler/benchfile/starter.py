"""A commented bench file to start from: filled-in examples, or one channel a column of a log."""

from __future__ import annotations

import json
import re
import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from ..core.error_types import ParameterError, QuantityError
from ..core.ruler.quantity import quantity
from ..core.ruler.units import in_brackets, number, stated_unit, symbol

HEAD = """\
# A bench file: what is wired to what. Every command of jetruler reads it.
# `jetruler help bench-file` lists every key, `jetruler help laws` every law.
title = {title}
"""
CONVERTER = """
[converter] # for every channel that does not bring its own
bits = {bits}{bits_note}
vref = "{vref}" # measure it with a meter
# The top count reads vref; if the datasheet's LSB is vref / 2^bits, say:
# count_at_vref = {full}
"""
TAIL = """
# What happens when, for `jetruler live` and `convert --events` (`jetruler help live`):
# [trip.too-high]
# any = [{{ channel = "{first}", above = {above}, release = {release} }}]
# [drive.fan]
# from = "too-high"
# safe = 0
"""


@dataclass(frozen=True)
class SensorKind:
    """An example of a kind of sensor. body: its laws and further keys, with {low} and {high} for
    the ends of its travel and {supply} where a divider is fed. above: a value for a trip."""

    about: str
    body: str
    hint: str = ""
    above: float = 100
    unit: str = ""
    """Of raw values, for an input that is no converter."""


_ENDS = """laws = [
  {{ law = "line", marks = [[{first}, 0], [{last}, 100]], unit = "%" }}, # {{note}}
  {{ law = "clamp", low = 0, high = 100 }},
]
decimals = 1"""

#: What the commented examples are about.
KINDS = {
    "volts": SensorKind(
        "volts at the pin", "laws = []\ndecimals = 3", "Check it with a meter at the pin.", 2
    ),
    "counts": SensorKind(
        "counts as they are", 'laws = [{ law = "counts", bits = {bits} }]\ndecimals = 0'
    ),
    "ntc": SensorKind(
        "NTC thermistor in the lower leg, under a fixed resistor to the reference",
        """laws = [
  { law = "divider", known = "10 kohm ± 1 %", sensor = "lower"{supply} }, # the fixed resistor
  { law = "beta", r0 = "10 kohm ± 3 %", beta = 3435, t0 = "25 degC" }, # from the datasheet
]
limits = [-20, 120]
decimals = 1
# smooth = { kind = "median", over = 5 }""",
        above=60,
    ),
    "platinum": SensorKind(
        "100 Ω platinum in the lower leg, under a fixed resistor to the reference",
        """laws = [
  { law = "divider", known = "1 kohm ± 0.1 %", sensor = "lower"{supply} },
  { law = "platinum", r0 = 100 },
]
limits = [-50, 300]
decimals = 1""",
    ),
    "knob": SensorKind(
        "knob or lever, from end to end",
        _ENDS.format(first="{low}", last="{high}").replace("{note}", "your knob's own ends"),
        "`jetruler look LOG --ends {name} --write` finds its ends.",
        above=80,
    ),
    "probe": SensorKind(
        "probe between two ends, from dry to wet",
        _ENDS.format(first="{high}", last="{low}").replace("{note}", "what it reads dry, and wet"),
        "Note what it reads at both ends; the marks may run either way.",
        above=80,
    ),
    "percent": SensorKind(
        "how much of the converter's range is used",
        'laws = [{ law = "line", marks = [[0, 0], [{top}, 100]], unit = "%" }]\ndecimals = 1',
        above=80,
        unit="%",
    ),
    "voltage": SensorKind(
        "a voltage that the board prints in volts", "decimals = 3", unit="V", above=3
    ),
    "distance": SensorKind("a distance that the board prints in cm", "decimals = 1", unit="cm"),
    "loop": SensorKind(
        "4–20 mA transmitter over a shunt",
        """laws = [
  { law = "shunt", ohms = "150R ± 0.5 %" },
  { law = "expect", low = "3.6 mA", high = "21 mA" }, # below: a broken loop; above: a short
  { law = "line", marks = [["4 mA", 0], ["20 mA", 100]], unit = "%" }, # what 20 mA represents
]
decimals = 1""",
        above=80,
    ),
    "rail": SensorKind(
        "supply behind an attenuator",
        """laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
limits = [10.8, 13.2]
decimals = 2""",
        above=13,
    ),
    "thermocouple": SensorKind(
        "type K thermocouple behind an amplifier",
        """laws = [
  { law = "amplifier", gain = 50, offset = "0.5 V" }, # of the board that it is wired to
  { law = "thermocouple", kind = "K", cold = "25 degC" }, # where the wires end
]
decimals = 1""",
        above=250,
    ),
    "bridge": SensorKind(
        "strain gauge in a quarter bridge behind an amplifier",
        """laws = [
  { law = "amplifier", gain = 500, offset = "1.65 V" },
  { law = "bridge", gauge_factor = 2.05, active = 1, supply = "3.3 V", lead = "0.5 ohm" },
]
decimals = 0""",
        "A reading without a load is its zero: `jetruler fit` takes it off.",
        above=500,
    ),
    "load-cell": SensorKind(
        "load cell behind an amplifier",
        """laws = [
  { law = "amplifier", gain = 250, offset = "0.1 V" },
  { law = "load-cell", capacity = "5 kg", sensitivity = "2 mV/V", supply = "3.3 V" },
]
decimals = 3""",
        "A reading of the empty pan is its zero: `jetruler fit` takes it off.",
        above=4,
    ),
    "photoresistor": SensorKind(
        "photoresistor to the reference, over a fixed resistor",
        """laws = [
  { law = "divider", known = "10 kohm ± 1 %", sensor = "upper"{supply} },
  { law = "photoresistor", r10 = "20 kohm", gamma = 0.7 }, # from the datasheet, or two marks
]
decimals = 0""",
        above=500,
    ),
    "infrared": SensorKind(
        "infrared distance sensor, whose volts fall with the distance",
        """laws = [
  { law = "power", a = 27.7, b = -1.2, takes = "V", unit = "cm" }, # from marks: `jetruler fit`
]
limits = [10, 80]
decimals = 1""",
        above=60,
    ),
    "flow": SensorKind(
        "flow sensor, pulses counted each second",
        """laws = [
  { law = "counts", bits = {bits} },
  { law = "pulses", each = 450, interval = "1 s", unit = "L/min" }, # pulses of a litre
]
decimals = 2""",
        above=10,
    ),
    "fan": SensorKind(
        "fan or wheel, pulses counted each half second",
        """laws = [
  { law = "counts", bits = {bits} },
  { law = "pulses", each = 2, interval = "500 ms" }, # pulses of a turn
]
decimals = 0""",
        above=3000,
    ),
    "light": SensorKind(
        "light sensor, dark to bright, in zones",
        """laws = [
  { law = "line", marks = [[{low}, 0], [{high}, 100]], unit = "%" }, # what it reads in the dark
  { law = "zones", edges = [20, 70], values = ["dark", "dim", "bright"] },
]""",
        above=1,
    ),
}

#: Kinds of sensors that a voltage indicates.
_BEHIND_VOLTS = {"ntc", "platinum", "loop", "rail", "thermocouple", "bridge", "load-cell"}
_BEHIND_VOLTS |= {"photoresistor", "infrared"}

#: What is written where nothing is asked for.
EXAMPLES = {"bean": "ntc", "damper": "knob"}


@dataclass(frozen=True)
class SeenColumn:
    """What a log shows of a column: its name or number, bits, the ends of its counts, and their
    step (16 for a 12-bit result left-scaled to 16). bits: None for values that are no counts, in
    steps of `lsb`. repeats: whether the high bits of a code are repeated below it. stated: the
    unit that the log states beside the name."""

    column: str | int
    bits: int | None
    low: float
    high: float
    lsb: float = 1
    repeats: bool = False
    rows: int = 0
    stated: str = ""

    @property
    def unit(self) -> str:
        """The unit that the log or the column's name says, "1" where neither says one."""
        return stated_unit(str(self.column), self.stated) or "1"

    @property
    def is_counts(self) -> bool:
        """Whether they are a converter's: whole numbers whose name says no other unit."""
        return self.bits is not None and self.unit in ("1", "count")


@dataclass
class Starter:
    """The text of a bench file, and what is guessed in it, each with its reason."""

    text: str
    guesses: list[str] = field(default_factory=list)


def starter(
    kinds: Mapping[str, str],
    seen: Sequence[SeenColumn] = (),
    title: str = "My bench",
    *,
    bits: int | None = None,
    vref: str | None = None,
    log: str = "the log",
) -> Starter:
    """A bench file. kinds: channel → kind; those that are no column's name get the columns in
    order. With what a log shows, every column has a channel, and each guess is marked."""
    made = _Making(bits, vref, log)
    counts = [s for s in seen if s.is_counts]
    # One board has one converter; left-scaled results say their own size.
    made.common = bits or max((s.bits or 0 for s in counts if s.lsb == 1), default=0) or 12
    parts = [HEAD.format(title=_quoted(title))]
    if counts or not seen:
        note = ""
        plain = [s.high for s in counts if s.lsb == 1]
        if plain and bits is None:
            highest = max(plain)
            why = f"the smallest usual size that holds all counts, up to {number(highest)}"
            note = f" # a guess: {why}"
            made.guesses.append(f"bits = {made.common}: {why}")
        full = 2**made.common
        parts.append(
            CONVERTER.format(bits=made.common, bits_note=note, vref=made.reference, full=full)
        )
    wanted = _wanted(kinds, seen)
    parts += [made.channel(i, *each) for i, each in enumerate(wanted, start=1)]
    name, kind, _ = wanted[0]
    above = KINDS[kind].above
    parts.append(TAIL.format(first=name, above=number(above), release=number(0.95 * above)))
    return Starter("".join(parts), made.guesses)


def _wanted(
    kinds: Mapping[str, str], seen: Sequence[SeenColumn]
) -> list[tuple[str, str, SeenColumn | None]]:
    """Each channel with its kind and its column."""
    if not seen:
        return [(name, kind, None) for name, kind in (dict(kinds) or EXAMPLES).items()]
    columns: dict[str, SeenColumn] = {}
    for one in seen:
        name = base = channel_name(str(one.column))
        n = 2
        while name in columns:
            name, n = f"{base}_{n}", n + 1
        columns[name] = one
    free = [name for name in columns if name not in kinds]
    found = {name: (name, kinds.get(name, "volts"), one) for name, one in columns.items()}
    others: list[tuple[str, str, SeenColumn | None]] = []
    unnamed = all(isinstance(one.column, int) for one in seen) or len(seen) == 1
    for name, kind in kinds.items():
        if name in columns:
            continue
        if unnamed and free:
            column = free.pop(0)
            found[column] = (name, kind, columns[column])
        else:
            others.append((name, kind, None))
    return [*found.values(), *others]


@dataclass
class _Making:
    """What one bench file has in common while it is written."""

    bits: int | None
    vref: str | None
    log: str
    common: int = 12
    guesses: list[str] = field(default_factory=list)

    @property
    def reference(self) -> str:
        """The reference voltage, as it is written."""
        if self.vref is None:
            return "3.3 V ± 1 %"
        plain = re.fullmatch(r"[\d.]+", self.vref.strip())
        text = f"{self.vref.strip()} V" if plain else self.vref.strip()
        try:
            quantity(text, "V")
        except QuantityError as error:
            raise ParameterError("--vref", self.vref, error.expected, error.why) from None
        return text

    def channel(self, place: int, name: str, kind: str, seen: SeenColumn | None) -> str:
        """The table of one channel."""
        example = KINDS[kind]
        about, body = example.about, example.body
        values = seen is not None and not seen.is_counts
        if values and kind in ("volts", "counts", "flow", "fan"):
            about, body = "raw values", ""
        column = json.dumps(seen.column, ensure_ascii=False) if seen else str(place)
        if seen is None:
            column += " # by name, or by number from 1"
        if values and seen is not None and kind in _BEHIND_VOLTS and seen.unit not in ("V", "mV"):
            seen = replace(seen, stated="V")  # no other unit can be behind such laws
        edge = self._edge(name, seen, example)
        low, high = (seen.low, seen.high) if seen else (40, 2**self.common - 41)
        supply = ""
        if values and seen is not None and seen.unit == "V":
            supply = f', supply = "{self.reference.partition(" ±")[0]}"'
        for key, text in (
            ("{low}", f"{low:g}" if isinstance(low, float) else str(low)),
            ("{high}", f"{high:g}" if isinstance(high, float) else str(high)),
            ("{supply}", supply),
            ("{bits}", str(self.common)),
            ("{top}", str(2**self.common - 1)),
        ):
            body = body.replace(key, text)
        if seen is not None and "marks = [[" in body and kind != "percent":
            body = re.sub(r"# (your|what it).*", "# a guess: the ends of the log", body)
            self.guesses.append(
                f"{name}: its ends {number(low)} and {number(high)} are those of {self.log}"
            )
        if values and kind == "percent":
            body = "decimals = 1"
        hint = f"# {example.hint.replace('{name}', name)}\n" if example.hint else ""
        key = name if name.isascii() else _quoted(name)
        lines = f'\n[channel.{key}]\ncolumn = {column}\nabout = "{about}"\n{hint}{edge}{body}'
        lines = lines.rstrip("\n") + "\n"
        if seen is not None:
            what = "counts" if seen.is_counts else "values"
            lines += f"# the log's {what} run from {number(seen.low)} to {number(seen.high)}\n"
        return lines

    def _edge(self, name: str, seen: SeenColumn | None, example: SensorKind) -> str:
        """What differs from the common converter, marked as the guess it is."""
        if seen is None:
            own = example.unit not in ("", "%")
            return f'input = {{ unit = "{example.unit}" }}\n' if own else ""
        if not seen.is_counts:
            unit = seen.unit if seen.unit != "1" else example.unit or "1"
            resolution = f"{seen.lsb:g}"
            named = symbol(unit) if seen.unit != "1" else "no unit in its name"
            why = f"{named}; its values are in steps of {resolution}"
            self.guesses.append(f"{name}: an input, not counts: {why}")
            table = f'input = {{ unit = "{unit}", resolution = {resolution} }}'
            return f"{table} # a guess: {why}; give its range too\n"
        if seen.lsb == 1:
            return ""
        assert seen.bits is not None
        codes = seen.bits + 1 - int(seen.lsb).bit_length()
        full = f", count_at_vref = {2**seen.bits - 1}" if seen.repeats else ""
        why = f"codes of {codes} bits, " + (
            "their high bits repeated below" if seen.repeats else "left-scaled"
        )
        self.guesses.append(f"{name}: {why}")
        return f"converter = {{ bits = {seen.bits}, codes = {codes}{full} }} # a guess: {why}\n"


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


def channel_name(column: str) -> str:
    """A column's name as a channel may be called: letters, digits and _, without its unit."""
    plain = in_brackets(column)[0] or column
    text = unicodedata.normalize("NFKD", plain.replace("ß", "ss"))
    text = "".join(c for c in text if not unicodedata.combining(c))
    name = re.sub(r"[^A-Za-z0-9_]+", "_", text).strip("_") or "column"
    return name if not name[0].isdigit() else f"column_{name}"
