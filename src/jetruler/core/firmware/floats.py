"""A ruler's own formula as a program of floats: each law by its equation."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable

from ..laws.adc import Adc
from ..laws.circuit import Divider, Shunt, parallel
from ..laws.curve import Polynomial, PowerLaw
from ..laws.formula import FIXED, Formula
from ..laws.interval import Clamp, DeadBand, Expect, Limits
from ..laws.linear import Line
from ..laws.shape import Magnitude, PassThrough, Whole
from ..laws.thermistor import Beta, SteinhartHart, SteinhartHartExtended
from ..laws.unit import To
from ..laws.zones import Zones
from ..model import law as base
from ..model.converter import Converter
from ..model.ruler import Ruler
from .program import Program

#: The statements of one law, on the variable x.
Written = Callable[[base.Law], list[str]]


def float_program(ruler: Ruler, name: str) -> Program | None:
    """The ruler's formula; None if one of its laws has none."""
    body = ["x = n"]
    for law in ruler.laws:
        statements = _statements(law)
        if statements is None:
            return None
        body += statements
    body.append("return x")
    return Program(name, "\n".join(body), {}, "float")


def _reject(condition: str) -> str:
    return f"if {condition}:\n    return NONE"


def _number(value: float) -> str:
    """A constant; a negative one in brackets."""
    text = repr(float(value))
    return f"({text})" if text.startswith("-") else text


def _statements(law: base.Law) -> list[str] | None:
    for kind, write in _WRITTEN:
        if isinstance(law, kind):
            found: list[str] | None = write(law)
            return found
    gain = getattr(law, "factor", None)
    if isinstance(gain, float) and hasattr(law, "shift"):  # attenuator, amplifier
        return [f"x = (x - {_number(law.shift)}) * {_number(gain)}"]
    return None


def _converter(law: Converter) -> list[str]:
    out = [_reject(f"x < {law.lowest} or x > {law.highest}")]
    if isinstance(law, Adc):
        out.append(f"x = x / {_number(law.full_count)} * {_number(law.scale)}")
    return out


def _line(law: Line) -> list[str]:
    if law.marks is None:
        return [f"x = x * {_number(law.gain or 0.0)} + {_number(law.offset or 0.0)}"]
    (x0, y0), (x1, y1) = law.marks
    return [
        f"x = (x - {_number(x0)}) / {_number(x1 - x0)}",
        f"x = {_number(y0)} * (1.0 - x) + {_number(y1)} * x",
    ]


def _divider(law: Divider) -> list[str]:
    full = _number(law.full)
    if law.sensor == "upper":
        leg = _number(parallel(law.known, law.load))
        return [_reject("x <= 0.0"), f"x = {leg} * ({full} - x) / x", _reject("x <= 0.0")]
    out = [_reject(f"x >= {full}"), f"x = {_number(law.known)} * x / ({full} - x)"]
    if law.load is not None:
        load = _number(law.load)
        out += [_reject(f"x >= {load}"), f"x = x * {load} / ({load} - x)"]
    return [*out, _reject("x <= 0.0")]


def _temperature(scale: str, reciprocal: str) -> list[str]:
    shift = {"degC": " - 273.15", "K": "", "degF": " - 273.15"}[scale]
    out = [f"x = {reciprocal}", _reject("x <= 0.0"), f"x = 1.0 / x{shift}"]
    return [*out, "x = x * 1.8 + 32.0"] if scale == "degF" else out


def _beta(law: Beta) -> list[str]:
    inner = f"{_number(1.0 / law.t0)} + log(x / {_number(law.r0)}) / {_number(law.beta)}"
    return [_reject("x <= 0.0"), *_temperature(law.scale, inner)]


def _cubic(law: SteinhartHart | SteinhartHartExtended) -> list[str] | None:
    if not all(map(math.isinf, law.branch)):
        return None  # the cubic turns back: a table knows where
    c0, c1, c2, c3 = map(_number, law.coefficients)
    head = [_reject("x <= 0.0"), f"x = log(x / {_number(law.base)})"]
    return [*head, *_temperature(law.scale, f"{c0} + x * ({c1} + x * ({c2} + x * {c3}))")]


def _polynomial(law: Polynomial) -> list[str]:
    text = _number(law.coefficients[-1])
    for c in reversed(law.coefficients[:-1]):
        text = f"{_number(c)} + x * ({text})"
    return [*_domain(law.domain), f"x = {text}"]


def _domain(domain: tuple[float, float] | None) -> list[str]:
    if domain is None:
        return []
    return [_reject(f"x < {_number(domain[0])} or x > {_number(domain[1])}")]


def _power(law: PowerLaw) -> list[str]:
    base_text = f"(x - {_number(law.x0)})"
    out = [_reject(f"x <= {_number(law.x0)}")]
    return [*out, f"x = {_number(law.a)} * {base_text} ** {_number(law.b)} + {_number(law.c)}"]


class _Constants(ast.NodeTransformer):
    """Puts the constants of a formula in."""

    def __init__(self, values: dict[str, float]) -> None:
        self.values = values

    def visit_Name(self, node: ast.Name) -> ast.expr:
        return ast.Constant(self.values[node.id]) if node.id in self.values else node

    def visit_Constant(self, node: ast.Constant) -> ast.expr:
        return ast.Constant(float(node.value)) if isinstance(node.value, int) else node


def _formula(law: Formula) -> list[str]:
    tree = ast.parse(law.expression, mode="eval").body
    values = {**FIXED, **dict(law.constants)}
    values.pop("x", None)
    return [*_domain(law.domain), f"x = {ast.unparse(_Constants(values).visit(tree))}"]


def _clamp(law: Clamp) -> list[str]:
    out = []
    if law.low is not None:
        out.append(f"if x < {_number(law.low)}:\n    x = {_number(law.low)}")
    if law.high is not None:
        out.append(f"if x > {_number(law.high)}:\n    x = {_number(law.high)}")
    return out


def _expect(law: Expect) -> list[str]:
    ends = [(law.low, "<"), (law.high, ">")]
    return [_reject(f"x {sign} {_number(end)}") for end, sign in ends if end is not None]


def _dead_band(law: DeadBand) -> list[str]:
    low, high, rest = _number(law.low), _number(law.high), _number(law.still)
    return [f"if x >= {low}:\n    if x <= {high}:\n        x = {rest}"]


def _whole(law: Whole) -> list[str]:
    if law.rounding == "nearest":
        return ["if x < 0.0:\n    x = -floor(-x + 0.5)\nelse:\n    x = floor(x + 0.5)"]
    called = {"down": "floor", "up": "ceil", "toward zero": "trunc"}[law.rounding]
    return [f"x = {called}(x)"]


def _zones(law: Zones) -> list[str]:
    values = [float(i) if law.names else float(v) for i, v in enumerate(law.values)]  # type: ignore[arg-type]
    out = [f"z = {_number(values[0])}"]
    for edge, value in zip(law.edges, values[1:], strict=True):
        out.append(f"if x >= {_number(edge)}:\n    z = {_number(value)}")
    return [*out, "x = z"]


def _to(law: To) -> list[str]:
    factor, offset = law._line()
    return [f"x = x * {_number(factor)} + {_number(offset)}"]


_WRITTEN: tuple[tuple[type[base.Law], Callable[..., list[str] | None]], ...] = (
    (Converter, _converter),
    (Line, _line),
    (Divider, _divider),
    (Shunt, lambda law: [f"x = x / {_number(law.ohms)}"]),
    (Beta, _beta),
    (SteinhartHart, _cubic),
    (SteinhartHartExtended, _cubic),
    (Polynomial, _polynomial),
    (PowerLaw, _power),
    (Formula, _formula),
    (Clamp, _clamp),
    (Limits, lambda law: []),
    (Expect, _expect),
    (DeadBand, _dead_band),
    (Whole, _whole),
    (Magnitude, lambda law: ["x = abs(x)"]),
    (PassThrough, lambda law: []),
    (Zones, _zones),
    (To, _to),
)
