"""Chains of laws, each with its formula in NumPy: none of the product's own code computes here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

Curve = Callable[[Any], Any]


@dataclass(frozen=True)
class Edge:
    """Where raw values come from.

    toml: its lines in a channel; lowest, highest: its range; step: between two raw values; code:
    from a whole number of 0 … 2^bits − 1 to a raw value; volts: of a raw value, None for inputs.
    """

    toml: str
    unit: str
    lowest: float
    highest: float
    step: float
    bits: int
    kind: str
    volts: Curve | None = None
    code: Curve = field(default=lambda n: n)
    digits: int = 0

    @property
    def span(self) -> float:
        """From end to end."""
        return self.highest - self.lowest

    def cell(self, x: float) -> str:
        """A raw value as a log has it: small amounts with an exponent."""
        return f"{x:.{self.digits}f}" if self.span > 1e-3 else repr(float(x))


@dataclass(frozen=True)
class Chain:
    """Laws behind an edge: their TOML, the value of raw ones, and the ends of the raw values on
    which all of them have a value."""

    laws: tuple[str, ...]
    value: Curve
    unit: str
    ends: tuple[float, float]
    names: tuple[str, ...]
    labels: tuple[str, ...] = ()


INPUTS = (
    ("V", 3, 0.0, 5.0), ("V", 7, -2.5, 2.5), ("mV", 1, 0.0, 100.0), ("mA", 2, 0.0, 25.0),
    ("%", 1, 0.0, 100.0), ("cm", 1, 2.0, 400.0), ("g", 0, -5000.0, 20000.0),
    ("m/s²", 2, -40.0, 40.0), ("Hz", 0, 0.0, 10000.0), ("1", 0, 0.0, 1023.0),
    ("A", 9, 0.0, 2e-5), ("A", 15, -2e-10, 1e-9), ("ohm", 0, 0.0, 2e9), ("V", 9, 0.0, 3.3),
)  # fmt: skip


def edge(random: np.random.RandomState, kind: str = "") -> Edge:
    """A converter or an input."""
    kind = kind or str(random.choice(EDGES, p=(0.4, 0.12, 0.08, 0.06, 0.06, 0.28)))
    if kind == "input":
        unit, digits, low, high = INPUTS[random.randint(len(INPUTS))]
        resolution = f", resolution = {10.0**-digits:g}"
        toml = f'input = {{ unit = "{unit}"{resolution}, range = [{low:g}, {high:g}] }}'
        bits = round(np.log2((high - low) * 10**digits))
        return Edge(toml, unit, low, high, 10.0**-digits, bits, kind, digits=digits)
    bits = int(random.choice([6, 8, 10, 12, 12, 14, 16, 18, 20, 24, 32]))
    vref = float(random.choice([1.1, 2.5, 3.3, 5.0]))
    top, lowest, step, more = 2**bits - 1, 0, 1, ""
    code: Curve = lambda n: n  # noqa: E731
    if kind == "signed":
        lowest, more = -(2 ** (bits - 1)), ", signed = true"
        top = 2 ** (bits - 1) - 1
        code = lambda n: n + lowest  # noqa: E731
    elif kind in ("shifted", "repeated"):
        codes, bits = int(random.choice([8, 10, 12])), 16
        step, more = 2 ** (bits - codes), f", codes = {codes}"
        top = 2**bits - step
        code = lambda n: n * step  # noqa: E731
        if kind == "repeated":
            top, more = 2**bits - 1, more + f", count_at_vref = {2**bits - 1}"
            code = lambda n: n * step + (n >> (2 * codes - bits))  # noqa: E731
    elif kind == "full":
        more = f", count_at_vref = {2**bits}"
    full = 2**bits if kind == "full" else top
    toml = f"converter = {{ bits = {bits}, vref = {vref}{more} }}"
    number = bits if kind not in ("shifted", "repeated") else codes
    volts: Curve = lambda n: n / full * vref  # noqa: E731
    return Edge(toml, "count", lowest, top, step, number, kind, volts, code)


EDGES = ("plain", "signed", "shifted", "repeated", "full", "input")


def _nice(random: np.random.RandomState, low: float, high: float, digits: int = 3) -> float:
    return float(f"{random.uniform(low, high):.{digits}g}")


def chain(random: np.random.RandomState, of: Edge, *, shape: str = "") -> Chain:
    """Laws on an edge: a sensor, and what is made of its values."""
    made = _sensor(random, of)
    shapes = ("", "to", "clamp", "whole", "zones", "magnitude", "limits", "expect", "dead-band",
              "formula", "table", "line+whole", "clamp+zones", "pass-through")  # fmt: skip
    shape = shape or str(random.choice(shapes))
    for name in filter(None, shape.split("+")):
        made = _shaped(random, made, name)
    return made


def _sensor(random: np.random.RandomState, of: Edge) -> Chain:
    low, high = of.lowest + 0.1 * of.span, of.highest - 0.1 * of.span
    if of.volts is None or random.rand() < 0.35:
        return _straight(random, of)
    u = of.volts
    if of.kind == "plain" and random.rand() < 0.1:
        # Offset binary: half of the counts are below zero volts.
        half, vref = 2 ** (of.bits - 1), float(u(2**of.bits - 1))
        law = f'{{ law = "line", gain = {vref / half!r}, offset = {-vref!r}, takes = "count", '
        law += 'unit = "V" }'
        return Chain((law,), lambda n: (n - half) / half * vref, "V", (low, high), ("offset",))
    kind = str(random.choice(["volts", "thermistor", "platinum", "attenuator", "loop", "amplifier",
                              "power", "polynomial", "steinhart", "extended"]))  # fmt: skip
    if of.kind == "signed" and kind not in ("attenuator", "amplifier", "polynomial"):
        kind = "volts"
    if kind == "volts":
        law = '{ law = "line", gain = 1, takes = "V", unit = "V" }'
        return Chain((law,), u, "V", (low, high), ("volts",))
    full = of.highest if of.kind != "full" else of.highest + 1
    known = _nice(random, 1e3, 2e4, 2)
    upper = bool(random.randint(2))
    side = ', sensor = "upper"' if upper else ""

    def ohms(n: Any) -> Any:
        x = n / full
        return known * (1 - x) / x if upper else known * x / (1 - x)

    divider = f'{{ law = "divider", known = {known:g}{side} }}'
    if kind == "thermistor":
        beta, r0 = _nice(random, 3000, 4500), known * _nice(random, 0.5, 2, 2)
        law = f'{{ law = "beta", r0 = {r0:g}, beta = {beta:g} }}'
        r0 = float(f"{r0:g}")
        at = lambda n: 1 / (1 / 298.15 + np.log(ohms(n) / r0) / beta) - 273.15  # noqa: E731
        return Chain((divider, law), at, "degC", (low, high), ("divider", "beta"))
    if kind == "extended":
        ks = (3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8)
        law = f'{{ law = "steinhart-hart-extended", r25 = {known:g}, to_kelvin = {list(ks)} }}'

        def extended(n: Any) -> Any:
            log = np.log(ohms(n) / known)
            return 1 / (ks[0] + ks[1] * log + ks[2] * log**2 + ks[3] * log**3) - 273.15

        return Chain((divider, law), extended, "degC", (low, high), ("divider", "extended"))
    if kind == "steinhart":
        a, b, c = 8.8e-4, 2.3e-4, 1.1e-7
        law = f'{{ law = "steinhart-hart", a = {a}, b = {b}, c = {c}, unit = "K" }}'

        def kelvin(n: Any) -> Any:
            log = np.log(ohms(n))
            return 1 / (a + b * log + c * log**3)

        return Chain((divider, law), kelvin, "K", (low, high), ("divider", "steinhart-hart"))
    if kind == "platinum":
        known = 150.0
        law = f'{{ law = "divider", known = 150{side} }}'
        part = {False: (0.42, 0.62), True: (0.38, 0.57)}[upper]  # 105 … 245 ohms

        def celsius(n: Any) -> Any:
            x = n / full
            r = 150 * (1 - x) / x if upper else 150 * x / (1 - x)
            a, b, c = 3.9083e-3, -5.775e-7, -4.183e-12  # IEC 60751; c below 0 °C alone
            t = (-a + np.sqrt(a * a - 4 * b * (1 - r / 100))) / (2 * b)
            for _ in range(6):  # Newton's rule
                cold = np.where(t < 0, c, 0.0)
                wrong = 1 + a * t + b * t**2 + cold * (t - 100) * t**3 - r / 100
                t = t - wrong / (a + 2 * b * t + cold * (4 * t - 300) * t**2)
            return t

        ends = (part[0] * full, part[1] * full)
        return Chain((law, '{ law = "platinum" }'), celsius, "degC", ends, ("divider", "platinum"))
    if kind == "attenuator":
        law = '{ law = "attenuator", upper = "30 kohm", lower = "10 kohm" }'
        return Chain((law,), lambda n: 4 * u(n), "V", (low, high), ("attenuator",))
    if kind == "loop":
        # So that 20 mA are within what the pin can take.
        burden = 120 if float(u(of.highest)) > 2.4 else 47
        laws = (
            f'{{ law = "shunt", ohms = {burden} }}',
            '{ law = "line", marks = [["4 mA", 0], ["20 mA", "10 bar"]] }',
        )
        at = lambda n: (u(n) / burden - 0.004) / 0.016 * 10  # noqa: E731
        return Chain(laws, at, "bar", (low, high), ("shunt", "line"))
    if kind == "amplifier":
        law = '{ law = "amplifier", gain = 50, offset = 0.1 }'
        return Chain((law,), lambda n: (u(n) - 0.1) / 50, "V", (low, high), ("amplifier",))
    if kind == "power":
        law = '{ law = "power", a = 12.3, b = -1.2, c = 1.5, unit = "cm", takes = "V" }'
        at = lambda n: 12.3 * u(n) ** -1.2 + 1.5  # noqa: E731
        return Chain((law,), at, "cm", (of.lowest + 0.15 * of.span, high), ("power",))
    law = '{ law = "polynomial", coefficients = [-3, 40, 0.5], takes = "V", unit = "%" }'
    at = lambda n: -3 + 40 * u(n) + 0.5 * u(n) ** 2  # noqa: E731
    return Chain((law,), at, "%", (low, high), ("polynomial",))


def _straight(random: np.random.RandomState, of: Edge) -> Chain:
    """Marks on raw values: a knob, or any sensor with a straight answer."""
    low = of.lowest + np.round(random.uniform(0.08, 0.2) * of.span / of.step) * of.step
    high = of.highest - np.round(random.uniform(0.08, 0.2) * of.span / of.step) * of.step
    low, high = float(f"{low:.{of.digits}f}"), float(f"{high:.{of.digits}f}")
    unit, top = (("%", 100.0), ("degC", 85.0), ("bar", 2.5))[random.randint(3)]
    at = (0.0, top) if random.rand() < 0.7 else (top, 0.0)
    if of.unit == unit:
        at, unit = (0.0, 50.0), "mm"
    ends = f"[[{low:.{of.digits}f}, {at[0]:g}], [{high:.{of.digits}f}, {at[1]:g}]]"
    law = f'{{ law = "line", marks = {ends}, unit = "{unit}" }}'
    value = lambda n: at[0] + (n - low) / (high - low) * (at[1] - at[0])  # noqa: E731
    return Chain((law,), value, unit, (low, high), ("line",))


def _shaped(random: np.random.RandomState, of: Chain, name: str) -> Chain:
    """One law more, fitted to the values that there are."""
    raw = np.linspace(*of.ends, 501)
    values = of.value(raw)
    low, high = float(np.min(values)), float(np.max(values))
    span = high - low
    before = of.value
    digits = int(np.clip(2 - np.floor(np.log10(span)), 0, 9))

    def at(part: float) -> float:
        return round(low + part * span, digits)

    places = 13 - int(np.ceil(np.log10(max(abs(low), abs(high), span))))

    def met(x: Any) -> Any:
        """What is at an edge but for the rounding of floats, at the edge."""
        return np.round(x, places)

    def joined(law: str, value: Curve, unit: str = "", **more: Any) -> Chain:
        laws, names = (*of.laws, law), (*of.names, name)
        return Chain(laws, lambda n: value(before(n)), unit or of.unit, of.ends, names, **more)

    if name == "to":
        targets: dict[str, tuple[str, Curve]] = {
            "degC": ("degF", lambda x: x * 9 / 5 + 32),
            "K": ("degC", lambda x: x - 273.15),
            "V": ("mV", lambda x: x * 1000),
            "bar": ("psi", lambda x: x * 1e5 / (0.45359237 * 9.80665 / 0.0254**2)),
            "cm": ("in", lambda x: x / 2.54),
            "mm": ("in", lambda x: x / 25.4),
        }
        if of.unit not in targets:
            return of
        unit, curve = targets[of.unit]
        return joined(f'{{ law = "to", unit = "{unit}" }}', curve, unit)
    if name == "clamp":
        a, b = at(0.0), at(1.0)
        return joined(f'{{ law = "clamp", low = {a}, high = {b} }}', lambda x: np.clip(x, a, b))
    if name == "whole":
        if span < 8:
            return of

        def rounded(x: Any) -> Any:
            return np.sign(x) * np.floor(met(np.abs(x)) + 0.5)

        return joined('{ law = "whole" }', rounded)
    if name == "pass-through":
        return joined('{ law = "pass-through" }', lambda x: x)
    if name == "magnitude":
        return joined('{ law = "magnitude" }', np.abs)
    if name == "limits":
        return joined(f'{{ law = "limits", low = {at(-0.5)}, high = {at(1.5)} }}', lambda x: x)
    if name == "expect":
        return joined(f'{{ law = "expect", low = {at(-0.9)}, high = {at(1.9)} }}', lambda x: x)
    if name == "dead-band":
        a, b, rest = at(0.4), at(0.5), at(0.45)
        law = f'{{ law = "dead-band", low = {a}, high = {b}, rest = {rest} }}'
        return joined(law, lambda x: np.where((met(x) >= a) & (met(x) <= b), rest, x))
    if name == "formula":
        law = f'{{ law = "formula", expression = "a * x + b", a = 2.5, b = {at(0.3)} }}'
        return joined(law, lambda x: 2.5 * x + at(0.3), "?")
    if name == "line":
        law = '{ law = "line", gain = 12.5, offset = 3 }'
        return joined(law, lambda x: 12.5 * x + 3, "?")
    if name == "table":
        xs, ys = [at(-0.3), at(0.2), at(0.7), at(1.3)], [3.0, 10.0, 14.0, 40.0]
        points = ", ".join(f"[{x}, {y:g}]" for x, y in zip(xs, ys, strict=True))
        law = f'{{ law = "table", points = [{points}], unit = "%" }}'
        return joined(law, lambda x: np.interp(x, xs, ys), "%")
    edges = [at(0.25), at(0.5), at(0.75)]
    labels = ("low", "fair", "good", "high")
    words = ", ".join(f'"{label}"' for label in labels)
    law = f'{{ law = "zones", edges = {edges}, values = [{words}] }}'
    return joined(law, lambda x: np.searchsorted(edges, met(x), side="right"), "", labels=labels)
