"""A user's own formula (arithmetic, powers and functions of one variable, and nothing else), and a
power of the input."""

from __future__ import annotations

import ast
import math
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, NoInverseError, monotone_stretches, solve_monotone
from ..ruler.base_law import (
    Evaluator,
    FitInput,
    FitModel,
    Role,
    constant,
    ignore_fp_warnings,
    is_finite,
    reject,
    reject_outside,
)
from ..ruler.quantity import Quantityish
from ..ruler.ruler import Law
from ..ruler.units import bracketed, nearest, number, plain
from .curve import Curve, OnDomain, above_zero, check_domain, finite_or_nan

#: A value and its derivative by x, carried through the formula together.
Dual = tuple[Array, Array]

#: Each function with its derivative.
FUNCTIONS: dict[str, tuple[Callable[[Array], Array], Callable[[Array], Array]]] = {
    "log": (np.log, lambda v: 1 / v),
    "log10": (np.log10, lambda v: 1 / (v * math.log(10))),
    "log2": (np.log2, lambda v: 1 / (v * math.log(2))),
    "exp": (np.exp, np.exp),
    "sqrt": (np.sqrt, lambda v: 0.5 / np.sqrt(v)),
    "abs": (np.abs, np.sign),
    "sin": (np.sin, np.cos),
    "cos": (np.cos, lambda v: -np.sin(v)),
    "tan": (np.tan, lambda v: 1 / np.cos(v) ** 2),
    "asin": (np.arcsin, lambda v: 1 / np.sqrt(1 - v**2)),
    "acos": (np.arccos, lambda v: -1 / np.sqrt(1 - v**2)),
    "atan": (np.arctan, lambda v: 1 / (1 + v**2)),
    "sinh": (np.sinh, np.cosh),
    "cosh": (np.cosh, np.sinh),
    "tanh": (np.tanh, lambda v: 1 - np.tanh(v) ** 2),
}
FIXED = {"pi": math.pi, "e": math.e}
LONGEST = 400


#: Whoever walks through a formula goes so deep at most.
DEEPEST = 60


def _depth(tree: ast.AST) -> int:
    """How deep the parts of an expression stand in one another."""
    depth, level = 0, [tree]
    while level:
        depth += 1
        level = [child for node in level for child in ast.iter_child_nodes(node)]
    return depth


def expression_tree(
    expression: object,
    names: Collection[str],
    together: Collection[str] = (),
    others: Collection[str] = (),
) -> ast.expr:
    """The parts of an expression of some names; together, others: functions of two values, and
    more of one, that it may call. Raises `ParameterError` for anything else."""
    if not isinstance(expression, str) or len(expression) > LONGEST:
        raise ParameterError("expression", expression, f"a text of up to {LONGEST} signs")
    try:
        tree = ast.parse(expression.strip(), mode="eval").body
        called = {id(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
        nodes = (node for node in ast.walk(tree) if id(node) not in called)
        refused = (_refused(node, names, together, others) for node in nodes)
        problem = next(filter(None, refused), None)
        if problem is None and _depth(tree) > DEEPEST:
            problem = f"its parts stand in one another more than {DEEPEST} deep"
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        problem = 'it does not read as a formula; write it like "a * x**2 + sqrt(x)"'
    if problem:
        of = "x" if "x" in names else ", ".join(name for name in names if name not in FIXED)
        raise ParameterError("expression", expression, f"a formula of {of}", problem)
    return tree


def with_numbers(expression: str, numbers: Mapping[str, float]) -> str:
    """An expression with numbers in place of its names, for a worked line."""
    tree = ast.parse(expression.strip(), mode="eval").body
    return ast.unparse(_Written(numbers).visit(tree))


@dataclass(frozen=True, init=False)
class Formula(OnDomain):
    """y by a formula of x: `Formula("1 / (a + b*log(x))", a=1e-3, b=2e-4, unit="K")`.

    Parameters
    ----------
    expression : str
        + − * / **, brackets, numbers, x, pi, e, the constants by name, and the functions log
        (natural), log10, log2, exp, sqrt, abs, sin, cos, tan, asin, acos, atan, sinh, cosh, tanh.
    constants : tuple[tuple[str, float], ...]
        The constants, by name.
    domain : tuple[float, float], optional
        (low, high) of x; outside there is no value. The inverse needs a domain on which the formula
        is monotone, if several x between −1e9 and 1e9 give the same value; behind a converter, or
        an input with a range, the domain is what these can give.
    unit : str, optional
        Unit of the result.
    takes : str, optional
        Unit of the input.

    Raises
    ------
    ParameterError
        For an expression or a constant that makes no sense.
    NoInverseError
        By the inverse of a formula that is not monotone on its domain, or without one has
        several roots.

    Notes
    -----
    All other names are constants. The derivative is exact (chain rule); the inverse is solved
    numerically.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.Formula("a * sqrt(x)", a=3)(16)
    12.0
    """

    expression: str
    constants: tuple[tuple[str, float], ...]
    domain: tuple[float, float] | None = None
    unit: str | None = None
    takes: str | None = None

    name: ClassVar[str] = "formula"
    role: ClassVar[Role] = Role.CURVE
    open_ended: ClassVar[str] = "constants"
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"domain": "takes"}

    def __init__(
        self,
        expression: str,
        *,
        domain: tuple[float, float] | None = None,
        unit: str | None = None,
        takes: str | None = None,
        **constants: float,
    ) -> None:
        given = {"expression": expression, "domain": domain, "unit": unit, "takes": takes}
        for field, value in given.items():
            object.__setattr__(self, field, value)
        object.__setattr__(self, "constants", tuple(sorted(constants.items())))
        self.__post_init__()

    def check(self) -> Iterator[ParameterError]:
        constants = dict(self.constants)
        for key, value in constants.items():
            sound = isinstance(value, int | float) and not isinstance(value, bool)
            if key in FUNCTIONS or key in FIXED or key in ("x", "self", "constants"):
                yield ParameterError(key, value, "another name", "the name has a meaning already")
            elif not sound or not is_finite(value):
                yield ParameterError(key, value, "a finite number")
        yield from check_domain(self.domain)
        try:
            expression_tree(self.expression, {"x", *FIXED, *constants})
        except ParameterError as error:
            yield error

    @cached_property
    def _tree(self) -> ast.expr:
        return ast.parse(self.expression.strip(), mode="eval").body

    @ignore_fp_warnings
    def _both(self, x: Array) -> Dual:
        values: dict[str, Dual] = {"x": (self.inside(x), np.ones_like(x))}
        for key, value in {**FIXED, **dict(self.constants)}.items():
            values[key] = (np.full_like(x, value), np.zeros_like(x))
        y, slope = Duals(x, values).value(self._tree)
        finite = np.isfinite(y) & ~np.isnan(x)
        return np.where(finite, y, np.nan), np.where(finite, slope, np.nan)

    def forward(self, x: Array) -> Array:
        return self._both(x)[0]

    def slope(self, x: Array) -> Array:
        return self._both(x)[1]

    def inverse(self, y: Array) -> Array:
        if self.domain is not None:
            return self.solved(y, *self.domain)
        low, high = self._stretches
        asked = y.reshape(-1)
        at_low, at_high = self.forward(low), self.forward(high)
        least, most = np.minimum(at_low, at_high), np.maximum(at_low, at_high)
        there = (asked >= least[:, None]) & (asked <= most[:, None])
        which = np.argmax(there, axis=0)
        x = solve_monotone(self.forward, self.slope, asked, low[which], high[which])
        x[~there.any(axis=0)] = np.nan
        for i in np.flatnonzero(np.count_nonzero(there, axis=0) > 1):
            self._only_one(float(asked[i]), low[there[:, i]], high[there[:, i]])
        root: Array = x.reshape(y.shape)
        return root

    def _only_one(self, y: float, low: Array, high: Array) -> None:
        """Raises `NoInverseError` where more than one stretch has a root; two may share one at
        their end."""
        near = np.argsort(np.minimum(np.abs(low), np.abs(high)), kind="stable")[:4]
        low, high = low[near], high[near]
        roots = np.sort(solve_monotone(self.forward, self.slope, np.full(low.size, y), low, high))
        roots = roots[np.diff(roots, prepend=-np.inf) > 1e-9 * np.abs(roots)]
        if roots.size < 2:
            return
        nearest = sorted(roots.tolist(), key=abs)
        if len(nearest) > 3:
            shown = f"{number(nearest[0])}, {number(nearest[1])} and others"
        else:
            first, last = sorted(nearest)[:-1], max(nearest)
            shown = f"{', '.join(map(number, first))} and {number(last)}"
        raise NoInverseError(
            f"formula: no single x belongs to y = {number(y)}: {shown} all give it; "
            "give a domain with one of them"
        )

    @cached_property
    def _stretches(self) -> tuple[Array, Array]:
        """Low and high ends of the stretches between −1e9 and 1e9 on which the formula only rises
        or only falls."""
        found = np.array(monotone_stretches(self.forward, self.slope)).reshape(-1, 2)
        return (found[:, 0], found[:, 1]) if len(found) else (np.array([np.nan]),) * 2

    def formula(self, x: float) -> str:
        worked = with_numbers(self.expression, {"x": x, **dict(self.constants)})
        return f"y = {self.expression} = {worked} = {self._y(x)}"

    def inverse_formula(self, y: float) -> str:
        return f"{self.expression} = {number(y)} solved for x = {self._x(y)}"

    def program(self) -> list[str] | None:
        tree = ast.parse(self.expression, mode="eval").body
        values = {**FIXED, **dict(self.constants)}
        values.pop("x", None)
        return [*reject_outside(self.domain), f"x = {ast.unparse(_Constants(values).visit(tree))}"]

    def typed(self) -> list[str] | None:
        return (self.program() or [])[-1:]


class _Written(ast.NodeTransformer):
    """Names replaced by their numbers, for the worked line."""

    def __init__(self, numbers: Mapping[str, float]) -> None:
        self.numbers = numbers

    def visit_Name(self, node: ast.Name) -> ast.expr:
        if node.id not in self.numbers:
            return node
        return ast.parse(f"({plain(self.numbers[node.id])})", mode="eval").body


_OPERATORS = (ast.Add, ast.Sub, ast.Mult, ast.Div, ast.Pow, ast.UAdd, ast.USub)


def _refused(
    node: ast.AST,
    names: Collection[str],
    together: Collection[str] = (),
    others: Collection[str] = (),
) -> str | None:
    """Why a part of a formula may not be there; None if it may."""
    match node:
        case ast.BinOp() | ast.UnaryOp() | ast.Load():
            return None
        case ast.Constant(value=value) if type(value) in (int, float):
            return None
        case ast.Name(id=name) if name in names:
            return None
        case ast.Name(id=name):
            return f"{name!r} is not known here; {nearest(name, names)}"
        case ast.Call(func=ast.Name(id=name), args=[_], keywords=[]) if name in FUNCTIONS:
            return None
        case ast.Call(func=ast.Name(id=name), args=[_], keywords=[]) if name in others:
            return None
        case ast.Call(func=ast.Name(id=name), args=[_, _], keywords=[]) if name in together:
            return None
        case _ if isinstance(node, _OPERATORS):
            return None
        case ast.operator() | ast.unaryop():
            return "only + − * / ** are allowed between numbers"
        case ast.Call():
            known = "only these may be called, each with one value: " + ", ".join(FUNCTIONS)
            return known + (f"; with two: {', '.join(together)}" if together else "")
        case _:
            return f"a formula has no {type(node).__name__.lower()}; numbers, names, + − * / **, ()"


class Duals(Evaluator[Dual]):
    """Values with their derivatives by x."""

    def __init__(self, x: Array, names: Mapping[str, Dual]) -> None:
        self._x, self._names = x, names

    def constant(self, number: Any) -> Dual:
        return np.full_like(self._x, float(number)), np.zeros_like(self._x)

    def name(self, name: str) -> Dual:
        return self._names[name]

    def unary(self, op: ast.unaryop, value: Dual) -> Dual:
        return (-value[0], -value[1]) if isinstance(op, ast.USub) else value

    def call(self, name: str, values: list[Dual]) -> Dual:
        ((v, d),) = values
        function, derivative = FUNCTIONS[name]
        return function(v), derivative(v) * d

    def binary(self, op: ast.operator, left: Dual, right: Dual) -> Dual:
        (v, dv), (w, dw) = left, right
        match op:
            case ast.Add():
                return v + w, dv + dw
            case ast.Sub():
                return v - w, dv - dw
            case ast.Mult():
                return v * w, dv * w + v * dw
            case ast.Div():
                return v / w, (dv * w - v * dw) / w**2
        power = v**w
        by_base = np.where(dv == 0, 0.0, w * v ** (w - 1) * dv)
        by_exponent = np.where(dw == 0, 0.0, power * np.log(v) * dw)
        return power, by_base + by_exponent


class _Constants(ast.NodeTransformer):
    """Puts the constants of a formula in."""

    def __init__(self, values: dict[str, float]) -> None:
        self.values = values

    def visit_Name(self, node: ast.Name) -> ast.expr:
        return ast.Constant(self.values[node.id]) if node.id in self.values else node

    def visit_Constant(self, node: ast.Constant) -> ast.expr:
        return ast.Constant(float(node.value)) if isinstance(node.value, int) else node


@dataclass(frozen=True)
class PowerLaw(Curve):
    """y = a · (x − x0)^b + c, for x above x0: optical distance sensors, photoresistors.

    Parameters
    ----------
    a : float
        Factor; not 0.
    b : float
        Exponent; not 0.
    x0 : float, default 0.0
        Start of the power law.
    c : float, default 0.0
        Constant that is added.
    unit : str, optional
        Unit of the result.
    takes : str, optional
        Unit of the input.

    Raises
    ------
    ParameterError
        For parameters that make no sense.

    Notes
    -----
    At or below x0 there is no value (at x0 itself there is one where b > 0).

    Source: the power law of sensor datasheets.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.PowerLaw(a=2, b=0.5)(9)
    6.0
    """

    a: float
    b: float
    x0: float = 0.0
    c: float = 0.0
    unit: str | None = None
    takes: str | None = None

    if TYPE_CHECKING:  # texts and quantities are read

        def __init__(
            self,
            a: Quantityish,
            b: Quantityish,
            x0: Quantityish = 0.0,
            c: Quantityish = 0.0,
            unit: str | None = None,
            takes: str | None = None,
        ) -> None: ...

    name: ClassVar[str] = "power"
    role: ClassVar[Role] = Role.CURVE
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {"x0": "takes", "c": "unit"}
    fitted_name: ClassVar[str] = "a power law"

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel:
        return PowerModel(asked)

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        return [("line", None)]

    def check(self) -> Iterator[ParameterError]:
        for field in ("a", "b"):
            if getattr(self, field) == 0:
                yield ParameterError(field, 0, "a number other than 0")

    @ignore_fp_warnings
    def forward(self, x: Array) -> Array:
        return finite_or_nan(self.a * above_zero(x - self.x0) ** self.b + self.c)

    @ignore_fp_warnings
    def inverse(self, y: Array) -> Array:
        return finite_or_nan(above_zero((y - self.c) / self.a) ** (1.0 / self.b) + self.x0)

    @ignore_fp_warnings
    def slope(self, x: Array) -> Array:
        return finite_or_nan(self.a * self.b * above_zero(x - self.x0) ** (self.b - 1.0))

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        base = above_zero(x - self.x0)
        raised = base**self.b
        slopes = {"a": raised, "b": self.a * raised * np.log(base), "c": np.ones_like(x)}
        return slopes.get(field, -self.slope(x))

    def formula(self, x: float) -> str:
        base = f"({number(x)} − {bracketed(self.x0)})"
        numbers = f"{bracketed(self.a)} · {base}^{bracketed(self.b)} + {bracketed(self.c)}"
        return f"y = a · (x − x0)^b + c = {numbers} = {self._y(x)}"

    def inverse_formula(self, y: float) -> str:
        base = f"(({number(y)} − {bracketed(self.c)}) / {bracketed(self.a)})"
        numbers = f"{bracketed(self.x0)} + {base}^(1/{bracketed(self.b)})"
        return f"x = x0 + ((y − c) / a)^(1/b) = {numbers} = {self._x(y)}"

    def program(self) -> list[str] | None:
        base_text = f"(x - {constant(self.x0)})"
        out = [reject(f"x <= {constant(self.x0)}")]
        return [
            *out,
            f"x = {constant(self.a)} * {base_text} ** {constant(self.b)} + {constant(self.c)}",
        ]

    def typed(self) -> list[str] | None:
        return (self.program() or [])[1:]


class PowerModel(FitModel):
    """a · (x − x0)^b + c with x0 and c given."""

    def __init__(self, asked: FitInput) -> None:
        self.asked, self.x0, self.c = asked, asked.fixed("x0", 0.0), asked.fixed("c", 0.0)
        self.sign = -1.0 if np.median(asked.y) < self.c else 1.0
        self.names, self.units = ("a", "b"), (None, None)
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(asked.x - self.x0)))

    def refuse(self, asked: FitInput, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        needs = f"a power law needs what it is raised from above x0 = {number(self.x0)}"
        for i in np.flatnonzero(asked.x <= self.x0).tolist():
            yield (i,), f"x is {number(asked.x[i])}; {needs}"

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x - self.x0) - self.middle], axis=1)

    def link(self, eta: Array) -> Array:
        return self.c + self.sign * np.exp(eta)

    def link_slope(self, eta: Array) -> Array:
        return self.sign * np.exp(eta)

    def unlink(self, y: Array) -> Array:
        return np.log(self.sign * (y - self.c))

    def values(self, theta: Array) -> Array:
        return np.array([self.sign * np.exp(theta[0] - theta[1] * self.middle), theta[1]])

    def values_slope(self, theta: Array) -> Array:
        a = self.values(theta)[0]
        return np.array([[a, -a * self.middle], [0.0, 1.0]])

    def law(self, values: Array) -> Law:
        a, b = values.tolist()
        return PowerLaw(a, b, self.x0, self.c, unit=self.asked.unit, takes=self.asked.takes)
