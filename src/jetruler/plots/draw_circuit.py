"""The schematic that a channel's laws describe, from the sensor to the converter's pin."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from matplotlib.axes import Axes

from ..core.model.channel import Channel
from ..core.model.wiring import Circuit, Part, circuit_of
from .style import BLUE, JET, PAPER

#: A drawing that is narrower than this is not blown up.
NARROWEST = 22.0


def draw_circuit(ax: Axes, channel: Channel, at: float | None = None) -> Axes:
    """Draw it. at: a raw value; what each part does then stands beside it, in blue."""
    circuit = circuit_of(channel, at)
    drawing = schematic(circuit, ax)
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
    ax.set_title(title, loc="left", fontsize=14)
    ends = [circuit.converter.now or "raw value", *circuit.then]
    if at is not None:
        ends.append(channel.shown(float(channel.ruler(at))))
    ax.text(0.0, -0.02, "  →  ".join(ends), transform=ax.transAxes, fontsize=12, color=JET)
    return ax


def schematic(circuit: Circuit, ax: Axes | None = None) -> Any:
    """The drawing; its elements are one for each part, wires and grounds between them."""
    import schemdraw

    drawing = schemdraw.Drawing(canvas=ax, show=False)
    drawing.config(unit=3.0, fontsize=12, color=JET, lw=1.8)
    for name, parts in circuit.stages:
        _STAGES[name](drawing, {part.place: part for part in parts})
    _converter(drawing, circuit.converter, bare=not circuit.stages)
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

    symbols = {"thermistor": elm.Thermistor, "platinum": elm.ResistorVarIEC}
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

    drawing.push()
    drawing += _named(elm.SourceV().up(), parts[""], "top")
    top = drawing.here
    drawing.pop()
    drawing += elm.Ground()
    drawing.here = top
    drawing += elm.Line().right().length(4.0)


def _amplifier(drawing: Any, parts: dict[str, Part]) -> None:
    import schemdraw.elements as elm
    from schemdraw import logic

    drawing += _named(logic.Buf().right().scale(1.6).fill(PAPER), parts["series"], "top")
    drawing += elm.Line().right().length(2.0)


def _converter(drawing: Any, part: Part, bare: bool) -> None:
    import schemdraw.elements as elm

    ends = [elm.IcPin(side="right", anchorname="out")]
    if not bare:
        ends.append(elm.IcPin(name="pin", side="left", anchorname="pin"))
    box = elm.Ic(pins=ends, size=(7.6, 2.8)).right()
    box = box if bare else box.anchor("pin")
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
