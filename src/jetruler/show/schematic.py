"""The circuit that a channel's laws describe, from the sensor to the converter's pin, and its
schematic."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Literal, cast

from matplotlib.axes import Axes

from ..core.bench.channel import Channel
from ..core.error_types import ParameterError
from ..core.laws.circuit import Amplifier, Attenuator, Divider, Shunt
from ..core.ruler.base_law import hint_unit, parameters
from ..core.ruler.quantity import Toleranced
from ..core.ruler.ruler import Law, written
from ..core.ruler.units import factor, number, shown, significant, symbol
from .style import BLUE, JET, PAPER, inches_of, titled

Kind = Literal[
    "supply",
    "resistor",
    "thermistor",
    "platinum",
    "photoresistor",
    "resistive",
    "source",
    "bridge",
    "loop",
    "distance",
    "pulses",
    "quantity",
    "amplifier",
    "converter",
    "box",
]

#: Units whose values have prefixes, and those, largest first.
_PREFIXED = ("Ω", "A", "V", "W")
_PREFIXES = ((1e6, "M"), (1e3, "k"), (1.0, ""), (1e-3, "m"), (1e-6, "µ"))


@dataclass(frozen=True)
class Part:
    """One part. place: "upper", "lower", "load", "series", "loop", "pin" or "" for its own.
    now: what it does at the raw value that was asked for."""

    kind: Kind
    place: str
    label: str
    now: str = ""


@dataclass(frozen=True)
class Circuit:
    """The parts from the sensor to the converter, and what is computed behind it.

    stages: what the signal goes through, from the sensor on: each a pair of the law's name and its
    parts. then: the laws that are arithmetic alone.
    """

    stages: tuple[tuple[str, tuple[Part, ...]], ...]
    converter: Part
    then: tuple[str, ...]

    @property
    def parts(self) -> tuple[Part, ...]:
        """All of them."""
        return (*(part for _, parts in self.stages for part in parts), self.converter)


def circuit_of(channel: Channel, at: float | None = None) -> Circuit:
    """Return the circuit that a channel describes.

    Parameters
    ----------
    channel : whose laws are looked at.
    at : a raw value; voltages, currents and resistances are then given.

    Raises
    ------
    ParameterError
        For a raw value that the channel cannot give.
    """
    laws = channel.chain.laws
    known = dict(_readings(channel, at)) if at is not None else {}
    stages: list[tuple[str, tuple[Part, ...]]] = []
    used = {0}
    for place, law in enumerate(laws):
        parts = _parts(channel, place, known)
        if parts:
            stages.insert(0, (law.name, parts))
            used.add(place)
    if not any(name in ("divider", "shunt") for name, _ in stages):
        stages.insert(0, ("source", (_source_part(channel, at, known.get(max(used))),)))
    sensor = {i + 1 for i, law in enumerate(laws) if isinstance(law, Divider)}
    sensor |= {i for i, law in enumerate(laws) if law.sensor_kind in _IN_VOLTS}
    drawn = [law for i, law in enumerate(laws) if i in used | sensor]
    then = tuple(law.name for law in written(laws) if law not in drawn)
    return Circuit(tuple(stages), _converter_part(channel, at), then)


#: What is drawn for an input, by the base unit of what it measures.
_SOURCES: dict[str, Kind] = {
    "V": "source",
    "A": "loop",
    "ohm": "resistive",
    "Hz": "pulses",
    "rpm": "pulses",
    "m": "distance",
}


def _source_part(channel: Channel, at: float | None, now: float | None) -> Part:
    """The sensor as what it gives: a voltage, a current, pulses, a distance, or any other
    quantity."""
    own = [law for law in channel.chain.laws if law.sensor_kind in _IN_VOLTS]
    if own:  # a bridge is fed, and the others are sources of millivolts
        kind: Kind = "source" if own[0].sensor_kind == "thermocouple" else "bridge"
        label = "\n".join(filter(None, (own[0].sensor_kind, _in_short(own[0]))))
        return Part(kind, "", label, _volts(now))
    edge, unit = channel.chain.laws[0], symbol(channel.unit)
    plain = not unit or channel.unit in (edge.takes, edge.gives)
    label = "sensor" if plain else f"sensor\n({unit})"
    if edge.takes == "count":
        return Part("source", "", label, _volts(now) if edge.gives == "V" else "")
    base = factor(edge.takes or "1")
    drawn = _SOURCES.get(base[0] if base else "", "quantity")
    return Part(drawn, "", label, "" if at is None else shown(at, edge.takes))


#: Kinds of sensors that give a voltage of their own.
_IN_VOLTS = ("thermocouple", "strain gauge", "load cell")

#: Parameters of a law that are beside its sensor, at most; longer ones are below one another.
FEW, LONG = 3, 30


def _in_short(law: Law) -> str:
    """A law by its name and its first numbers, `beta 3950 K, t0 298.15 K`; empty without any."""
    hints = parameters(type(law))
    words = []
    for name, hint in hints.items():
        value, unit = getattr(law, name), hint_unit(hint)
        plain = name not in ("r0", "t0") and value == getattr(type(law), name, None)
        if plain or isinstance(value, bool):
            continue
        if name != "r0" and isinstance(value, int | float):
            words.append(f"{name} {with_tolerance(value, symbol(unit.symbol) if unit else '')}")
    if (kind := getattr(law, "kind", None)) is not None:
        words.insert(0, f"type {kind}")
    if not words:
        return ""
    listed = ", ".join(words[:FEW])
    listed = listed if len(listed) < LONG else ",\n".join(words[:FEW])
    is_named = law.name in hints or law.sensor_kind.replace(" ", "-") == law.name
    return listed if is_named else f"{law.name}: {listed}"


def _readings(channel: Channel, at: float) -> Iterator[tuple[int, float]]:
    """What each law gives at a raw value, by its place."""
    trace = channel.chain.trace(at)
    if len(trace.steps) < len(channel.chain.laws) and trace.steps:
        raise ParameterError("at", at, f"a raw value that {channel.name} can be worked out for")
    for place, step in enumerate(trace.steps):
        yield place, step.result


def _parts(channel: Channel, place: int, known: dict[int, float]) -> tuple[Part, ...]:
    """The parts of a law; none for one that is arithmetic."""
    law = channel.chain.laws[place]
    before, after = known.get(place - 1, math.nan), known.get(place, math.nan)
    make = _PARTS.get(type(law))
    return () if make is None else make(channel, place, before, after)


def _divider_parts(channel: Channel, place: int, before: float, after: float) -> tuple[Part, ...]:
    law = cast(Divider, channel.chain.laws[place])
    first = channel.chain.laws[0]
    reference = getattr(first, "vref", None)
    volts = law.supply if law.supply is not None else reference
    supply = "reference" if law.supply is None else "supply"
    label = supply if volts is None else f"{supply} {with_tolerance(volts, 'V')}"
    whole = float(volts) if volts is not None else math.nan
    # A ratiometric divider computes with a fraction of its supply.
    tap = before if law.supply is not None else before * whole
    sensor_now, known_now = "", ""
    if after == after:
        upper, lower = _legs(law, after)
        amps = whole / (upper + lower)
        across = (whole - tap, tap) if law.sensor == "upper" else (tap, whole - tap)
        sensor_now = prefixed(after, "Ω") + (f", {_volts(across[0])}" if tap == tap else "")
        known_now = _volts(across[1]) + (f", {prefixed(amps, 'A')}" if amps == amps else "")
    sensor = Part(_kind(channel, place), law.sensor, _sensor_label(channel, place), sensor_now)
    other = "lower" if law.sensor == "upper" else "upper"
    fixed = Part("resistor", other, with_tolerance(law.known, "Ω"), known_now)
    parts = [Part("supply", "", label), sensor, fixed]
    parts.sort(key=lambda part: ("", "upper", "lower").index(part.place))
    if law.load is not None:
        parts.append(Part("resistor", "load", f"input {with_tolerance(law.load, 'Ω')}"))
    return tuple(parts)


def _legs(law: Divider, sensor: float) -> tuple[float, float]:
    """The ohms of the upper and the lower leg, the load beside the lower one."""
    upper, lower = (sensor, law.known) if law.sensor == "upper" else (law.known, sensor)
    if law.load is not None:
        lower = lower * law.load / (lower + law.load)
    return float(upper), float(lower)


def _attenuator_parts(channel: Channel, place: int, before: float, _: float) -> tuple[Part, ...]:
    law = cast(Attenuator, channel.chain.laws[place])
    parts = [
        Part("resistor", "series", with_tolerance(law.upper, "Ω")),
        Part("resistor", "lower", with_tolerance(law.lower, "Ω"), _volts(before)),
    ]
    if law.load is not None:
        parts.append(Part("resistor", "load", f"input {with_tolerance(law.load, 'Ω')}"))
    return tuple(parts)


def _shunt_parts(channel: Channel, place: int, before: float, after: float) -> tuple[Part, ...]:
    law = cast(Shunt, channel.chain.laws[place])
    amps = prefixed(after, "A") if after == after else ""
    return (
        Part("loop", "loop", "current loop", amps),
        Part("resistor", "lower", with_tolerance(law.ohms, "Ω"), _volts(before)),
    )


def _amplifier_parts(channel: Channel, place: int, _: float, after: float) -> tuple[Part, ...]:
    law = cast(Amplifier, channel.chain.laws[place])
    label = f"× {number(float(law.gain))}"
    label += f", {shown(float(law.offset), 'V')} at 0 V" if law.offset else ""
    return (Part("amplifier", "series", label, _volts(after)),)


#: How each circuit is drawn: what a law computes does not say that.
_PARTS: dict[type, Callable[[Channel, int, float, float], tuple[Part, ...]]] = {
    Divider: _divider_parts,
    Attenuator: _attenuator_parts,
    Shunt: _shunt_parts,
    Amplifier: _amplifier_parts,
}


def _kind(channel: Channel, place: int) -> Kind:
    """What is in the sensor's leg, by the law behind the divider."""
    behind = channel.chain.laws[place + 1 : place + 2]
    return cast(Kind, behind[0].sensor_kind) if behind and behind[0].sensor_kind else "resistive"


def _sensor_label(channel: Channel, place: int) -> str:
    behind: Law | None = None
    if place + 1 < len(channel.chain.laws):
        behind = channel.chain.laws[place + 1]
    r0 = getattr(behind, "r0", None)
    kind = _kind(channel, place)
    name = {"thermistor": "NTC", "resistive": "sensor"}.get(kind, kind)
    label = name if r0 is None else f"{name} {with_tolerance(r0, 'Ω')}"
    return "\n".join(filter(None, (label, "" if behind is None else _in_short(behind))))


def _converter_part(channel: Channel, at: float | None) -> Part:
    edge = channel.chain.laws[0]
    now = "" if at is None else shown(at, edge.takes)
    if edge.takes != "count":
        unit = symbol(edge.takes)
        span = getattr(edge, "range", None)
        label = f"input in {unit}" if unit else "input"
        if span is not None:
            label += f"\n{number(span[0])} to {number(span[1])} {unit}"
        return Part("box", "pin", label, now)
    bits = getattr(edge, "codes", None) or getattr(edge, "bits")  # noqa: B009
    label = f"converter, {bits} bits"
    if bits != getattr(edge, "bits"):  # noqa: B009
        label += f"\nleft-scaled to {getattr(edge, 'bits')}"  # noqa: B009
    reference = getattr(edge, "vref", None)
    if reference is not None:
        label += f"\nreference {with_tolerance(reference, 'V')}"
    return Part("converter", "pin", label, now)


def _volts(value: float | None) -> str:
    return "" if value is None or math.isnan(value) else f"{number(value, 4)} V"


def prefixed(value: float, unit: str) -> str:
    """A value with a prefix: `4.7 kΩ`, `380 µA`; kept to four digits."""
    if value == 0 or not math.isfinite(value) or unit not in _PREFIXED:
        return f"{number(significant(value, 7))} {unit}".rstrip()
    size = abs(value) * (1 + 1e-9)
    factor, sign = next(
        ((f, s) for f, s in _PREFIXES if size >= f and not (unit == "V" and f > 1.0)), _PREFIXES[-1]
    )
    return f"{number(significant(value / factor, 4))} {sign}{unit}"


def with_tolerance(value: float, unit: str) -> str:
    """A part's value as it is printed on it: `4.7 kΩ ± 1 %`."""
    text = prefixed(float(value), unit)
    if isinstance(value, Toleranced) and value.half_width and value:
        return f"{text} ± {number(significant(100 * value.half_width / abs(value), 3))} %"
    return text


#: A drawing that is narrower than this is not blown up.
NARROWEST = 22.0


def draw_circuit(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Draw it. at: a raw value; what each part does then is beside it, in blue."""
    circuit = circuit_of(channel, at)
    wide, high = inches_of(ax)
    scale = min(1.0, wide / FULL[0], high / FULL[1])
    drawing = schematic(circuit, ax, scale)
    drawing.draw(show=False)
    ax.set_facecolor(PAPER)
    ax.set_axis_off()
    ax.set_aspect("equal")
    ax.margins(0.14, 0.16)
    ax.autoscale(enable=True)
    low, high = ax.get_xlim()
    if high - low < NARROWEST:
        ax.set_xlim(low, low + NARROWEST)
    title = channel.name + (f": {channel.about}" if channel.about else "")
    titled(ax, title, 14 * scale)
    ends = [circuit.converter.now or "raw value", *circuit.then]
    if at is not None:
        ends.append(channel.shown(float(channel.ruler(at))))
    chain = "  →  ".join(ends)
    ax.text(0.0, -0.02, chain, transform=ax.transAxes, fontsize=12 * scale, color=JET)
    return ax


#: Inches of axes in which letters have their full size.
FULL = (9.0, 4.0)


def schematic(circuit: Circuit, ax: Axes | None = None, scale: float = 1.0) -> Any:
    """The drawing; its elements are one for each part, wires and grounds between them. scale: of
    its letters."""
    import schemdraw

    drawing = schemdraw.Drawing(canvas=ax, show=False)
    drawing.config(unit=3.0, fontsize=12 * scale, color=JET, lw=1.8)
    for name, parts in circuit.stages:
        _STAGES[name](drawing, {part.place: part for part in parts})
    _converter(drawing, circuit.converter, scale)
    return drawing


def _named(element: Any, part: Part, where: str = "bottom") -> Any:
    """A part with its value, and with what it does now on its other side."""
    element = element.label(part.label, loc=where)
    if part.now:
        other = {"bottom": "top", "top": "bottom", "right": "left"}[where]
        element = element.label(part.now, loc=other, color=BLUE)
    return element


def _symbol(part: Part) -> Any:
    import schemdraw.elements as elm

    symbols = {
        "thermistor": elm.Thermistor,
        "platinum": elm.ResistorVarIEC,
        "photoresistor": elm.Photoresistor,
    }
    other = elm.ResistorVarIEC if part.kind == "resistive" else elm.ResistorIEC
    return symbols.get(part.kind, other)()


def _down(drawing: Any, part: Part) -> None:
    """A leg to ground below the present point, which stays where it is."""
    import schemdraw.elements as elm

    drawing.push()
    drawing += _named(_symbol(part).down(), part)
    drawing += elm.Ground()
    drawing.pop()


def _divider(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm

    drawing += elm.Vdd().label(parts[""].label)
    drawing += _named(_symbol(parts["upper"]).down(), parts["upper"])
    drawing += elm.Dot()
    _down(drawing, parts["lower"])
    _onwards(drawing, parts)


def _onwards(drawing: Any, parts: dict[str, Part]) -> None:
    """To the right; with a load, past its leg."""
    import schemdraw.elements as elm

    drawing += elm.Line().right().length(5.0)
    if "load" in parts:
        drawing += elm.Dot()
        _down(drawing, parts["load"])
        drawing += elm.Line().right().length(4.6)


def _attenuator(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm

    drawing += _named(_symbol(parts["series"]).right(), parts["series"], "top")
    drawing += elm.Dot()
    _down(drawing, parts["lower"])
    _onwards(drawing, parts)


def _shunt(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm

    drawing.push()
    drawing += _named(elm.SourceI().up(), parts["loop"], "top")
    drawing += elm.Line().right().length(6.0)
    drawing += elm.Dot()
    _down(drawing, parts["lower"])
    top = drawing.here
    drawing.pop()
    drawing += elm.Ground()
    drawing.here = top
    _onwards(drawing, parts)


def _source(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm

    part = parts[""]
    if part.kind in ("distance", "bridge"):
        (_distance if part.kind == "distance" else _bridge)(drawing, part)
        return
    symbols = {"source": elm.SourceV, "loop": elm.SourceI, "pulses": elm.SourceSquare}
    drawing.push()
    element = _symbol(part) if part.kind == "resistive" else symbols.get(part.kind, elm.Source)()
    drawing += _named(element.up(), part, "top")
    top = drawing.here
    drawing.pop()
    drawing += elm.Ground()
    drawing.here = top
    drawing += elm.Line().right().length(4.0)


def _bridge(drawing: Any, part: Part) -> None:
    """Four gauges in a ring, fed from above; what is between the two sides goes on."""
    import schemdraw.elements as elm

    left, right, top, bottom = (-2.4, 0), (2.4, 0), (0, 2.4), (0, -2.4)
    for start, end in ((left, top), (top, right), (left, bottom), (bottom, right)):
        drawing += elm.ResistorVarIEC().endpoints(start, end)
    drawing += elm.Vdd().at(top)
    drawing += elm.Ground().at(bottom)
    drawing += elm.Dot(open=True).at(left).label("−", loc="left")
    below = elm.Label().at((1.2, bottom[1] - 0.2))
    drawing += below.label(part.label, loc="right", halign="left", valign="top")
    drawing += elm.Line().at(right).right().length(5.0)
    if part.now:
        drawing += elm.Label().at((right[0] + 2.0, 0.4)).label(part.now, color=BLUE)


def _distance(drawing: Any, part: Part) -> None:
    """A target, how far it is away, and what measures that."""
    import schemdraw.elements as elm

    drawing += elm.Line().at((0, 1.2)).to((0, -1.2)).linewidth(5)
    arrow = elm.Arrow(double=True).at((0.25, 0)).right().length(3.2)
    drawing += arrow.label(part.now or "distance", loc="top", color=BLUE)
    drawing += (
        elm.Ic(
            pins=[
                elm.IcPin(side="left", anchorname="eye"),
                elm.IcPin(side="right", anchorname="out"),
            ],
            size=(3.6, 2.0),
        )
        .anchor("eye")
        .label(part.label, loc="center")
        .fill(PAPER)
        .drop("out")
    )
    drawing += elm.Line().right().length(2.0)


def _amplifier(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm
    from schemdraw import logic

    drawing += _named(logic.Buf().right().scale(1.6).fill(PAPER), parts["series"], "top")
    drawing += elm.Line().right().length(2.0)


def _converter(drawing: Any, part: Part, scale: float) -> None:
    import schemdraw.elements as elm

    name = "pin" if part.kind == "converter" else None
    ends = [
        elm.IcPin(side="right", anchorname="out"),
        elm.IcPin(name=name, side="left", anchorname="pin"),
    ]
    box = elm.Ic(pins=ends, size=(7.6, 2.8), lblsize=13 * scale).right().anchor("pin")
    drawing += box.label(part.label, loc="center", ofst=(0.5, 0)).fill(PAPER)
    if part.now:
        arrow = elm.Arrow().at(box.out).right().length(1.2)
        drawing += arrow.label(part.now, loc="right", color=BLUE)


_STAGES: dict[str, Callable[[Any, dict[str, Part]], None]] = {
    "divider": _divider,
    "attenuator": _attenuator,
    "shunt": _shunt,
    "source": _source,
    "amplifier": _amplifier,
}
