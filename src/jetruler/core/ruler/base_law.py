"""What a law is: one memoryless conversion with its inverse, slope and worked formula; how it is
fitted, and the pieces of the small language in which it writes itself for firmware."""

from __future__ import annotations

import ast
import dataclasses
import math
import typing
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from enum import Enum
from functools import cache
from types import MappingProxyType
from typing import Annotated, Any, ClassVar, Generic, NamedTuple, Self, TypeVar

import numpy as np

from ..error_types import ParameterError
from ..numerics import Array, FlagArray
from .quantity import needs_unit, owned, read_hinted, read_numbers
from .rounding import on_edges
from .units import Unit, spelled

Volts = Annotated[float, Unit("V")]
Ohms = Annotated[float, Unit("ohm")]
Kelvin = Annotated[float, Unit("K")]
BareKelvin = Annotated[float, Unit("K", bare=True)]
Fraction = Annotated[float, Unit("1")]

#: Unit of a ratiometric reading: the fraction of the converter's own reference, 0 to 1.
FRACTION = "fraction"

#: Nobody means a temperature in kelvin below this.
COLD = 100.0

#: Keeps NumPy quiet where a law meets the edge of its domain; the result there is NaN.
ignore_fp_warnings = np.errstate(all="ignore")


def as_temperature(value: float) -> str:
    """How somebody who wrote a plain number may have meant it: beyond what is usual in °C, in K."""
    if value < COLD:
        return f'"{value:g} degC"'
    return f'"{value:g} K", which is "{value - 273.15:g} degC"'


class Role(Enum):
    """What a law does to a value. Rooms ask for the role, never for the name, of a law."""

    CONVERTER = "gives the counts of a converter a meaning"
    CONVERT = "turns one quantity into another, by a circuit or otherwise"
    CURVE = "is a sensor's own curve, which a fit may replace"
    HOLD = "keeps a value in a range, or tells that it is outside"
    FOLD = "gives several inputs one output"
    ROUND = "rounds a value"
    LABEL = "gives a name to a range of values"
    UNIT = "changes the unit, and no quantity"

    @property
    def shapes(self) -> bool:
        """Whether a law of this role only shapes the result of the laws before it."""
        return self in (Role.HOLD, Role.FOLD, Role.ROUND, Role.LABEL)


class BaseLaw(ABC):
    """One conversion from one unit to another: all of a `Law` but its place in a ruler.

    `forward`, `inverse` and `slope` take and give float64 arrays of any shape. Not a number in,
    not a number out.
    """

    #: Name in a bench file; an abstract in-between class has none.
    name: ClassVar[str] = ""

    role: ClassVar[Role] = Role.CONVERT

    #: Parameters whose quantities tell a unit, and the field that takes it; in a bench file
    #: `low = "3.6 mA"` then says the unit too. A pair is for lists of (raw, true).
    unit_hints: ClassVar[Mapping[str, str | tuple[str, str]]] = {}

    #: The kind of sensor that has this curve, where only one kind has.
    sensor_kind: ClassVar[str] = ""

    #: Whether it changes what comes in; limits only flag it.
    changes_value: ClassVar[bool] = True

    #: The parameter that lists the pairs (in, out) of the law, if it has some.
    pairs_key: ClassVar[str] = "marks"

    #: The field that collects parameters beyond the fields (the constants of a formula), if any.
    open_ended: ClassVar[str] = ""

    #: What people call a fit of this law ("a line"); empty where it cannot be fitted.
    fitted_name: ClassVar[str] = ""

    #: The unit that a fitted law takes, if it must be one; the units that it may give, the usual
    #: one first, if not any.
    fit_takes: ClassVar[str | None] = None
    fit_gives: ClassVar[tuple[str, ...]] = ()

    #: The highest degree that a fit tries, for a law that has one.
    fit_degrees: ClassVar[int] = 0

    @classmethod
    def fit_model(cls, asked: FitInput) -> FitModel | None:
        """Return what this law looks like to a regression; None for a law that joins its marks."""
        return None

    @classmethod
    def joining(cls, points: tuple[tuple[float, float], ...], asked: FitInput) -> BaseLaw:
        """Return the law that goes through all points, for one without a model."""
        raise NotImplementedError

    @classmethod
    def simpler_fits(cls, free: int) -> list[tuple[str, int | None]]:
        """Return the names (and degrees) of laws with fewer than `free` parameters to try."""
        return []

    @classmethod
    def richer_fits(cls, free: int) -> list[tuple[str, int | None]]:
        """Return those with more, of which this law is a special case, the nearest first."""
        return []

    @property
    def takes(self) -> str | None:
        """Unit in; None is any unit."""
        return None

    @property
    def gives(self) -> str | None:
        """Unit out; None keeps the unit that came in."""
        return None

    @abstractmethod
    def forward(self, x: Array) -> Array:
        """From the raw side to the true side."""

    @abstractmethod
    def inverse(self, y: Array) -> Array:
        """From the true side back; NaN where no input gives this output."""

    @abstractmethod
    def slope(self, x: Array) -> Array:
        """The derivative dy/dx at x."""

    def slope_to(self, field: str, inside: tuple[int, ...], x: Array) -> Array | None:
        """The derivative of the result to a parameter, at x; None for one that the law knows no
        derivative to. inside: the place in a list of numbers."""
        return None

    @abstractmethod
    def formula(self, x: float) -> str:
        """The worked line: symbols, then numbers, then the result."""

    @abstractmethod
    def inverse_formula(self, y: float) -> str:
        """The worked line of the way back."""

    def worked_result(self, x: float, back: bool = False) -> float:
        """The result of the worked line (back: of the way back): by the same steps, where there
        are several, each rounded as it is printed."""
        compute = self.inverse if back else self.forward
        return float(compute(as_array(x))[0])

    def with_less(self, ratio: float) -> dict[str, float]:
        """The parameters that leave no more than this part of the voltage before it; empty for a
        law that is no circuit of that kind."""
        return {}

    def flags(self, x: Array) -> FlagArray | None:
        """What is notable about each input, as `Flag` bits; None when this law never flags."""
        return None

    def label(self, y: float) -> str | None:
        """What a result represents, where that is no number (a zone's label); else None."""
        return None

    def with_output(self, unit: str | None) -> BaseLaw:
        """This law before one that takes `unit`; itself, if it has no choice."""
        return self

    def with_input(self, unit: str | None) -> BaseLaw:
        """This law behind one that gives `unit`; itself, if that makes no difference."""
        return self

    @property
    def marks(self) -> tuple[tuple[float, float], tuple[float, float]] | None:
        """The two pairs (in, out) that the law goes straight through; None without them."""
        return None

    @property
    def pairs(self) -> tuple[tuple[float, float], ...]:
        """The pairs (in, out) that the law goes through; empty if it is given in another way."""
        return self.marks or ()

    def on(self, low: float, high: float) -> Self:
        """This law for inputs between two values only; itself, if it has no choice."""
        return self

    @property
    def keeps_within(self) -> tuple[float, float] | None:
        """The ends between which the law keeps its result; None where it keeps nothing."""
        return None

    @property
    def is_correction(self) -> bool:
        """Whether it is a gain and an offset in the same unit, as a correction is."""
        return False

    def corrected(self, gain: float, offset: float) -> BaseLaw:
        """Return this law and a gain and an offset behind it in one; for a correction."""
        raise NotImplementedError

    def cancels(self, field: str) -> bool:
        """Whether a parameter has no effect, such as the reference of a ratiometric converter."""
        return False

    @property
    def corners(self) -> tuple[float, ...]:
        """Inputs at which this law bends or turns: ends, edges, points."""
        return ()

    @property
    def decides_at(self) -> tuple[float, ...]:
        """Inputs at which this law decides: what is below goes another way than what is not."""
        return self.corners

    def on_edges(self, x: Array, size: float = 0.0) -> Array:
        """The inputs, those on an edge but for the rounding of the laws before put on it. size:
        what the numbers before it are as large as."""
        return on_edges(x, self.decides_at, size)

    @property
    def rounds_to(self) -> float | None:
        """The step to which this law rounds, in its output's unit; None where it rounds nothing.
        A budget then has a row for half of it."""
        return None

    @property
    def cuts(self) -> bool:
        """Whether what it rounds always goes one way, by up to a whole step."""
        return False

    def program(self) -> list[str] | None:
        """This law for firmware in floats: statements of Python on the variable `x`, in the small
        language of `core.firmware.program`; None where it has no such form, and a table serves.
        A law that rounds takes what is off a tie by `tie * x` for the tie.
        `reject` and `constant` of `core.laws.statements` help to write them."""
        return None

    def typed(self) -> list[str] | None:
        """This law as people type its worked line into firmware: the same language, each number
        of the line a constant of its own, the operations in their order; None where nobody would.
        """
        return self.program()

    def check(self) -> Iterator[ParameterError]:
        """Yield the errors among the parameters (all of them; the first is raised)."""
        yield from ()

    def __post_init__(self) -> None:
        given = {f.name: owned(getattr(self, f.name)) for f in dataclasses.fields(self)}  # type: ignore[arg-type]
        for name, value in _read(type(self), given).items():
            object.__setattr__(self, name, value)
        for error in self.errors():
            raise error

    def errors(self) -> list[ParameterError]:
        """All errors among the parameters: those of the wrong kind first."""
        kind_errors = list(self._kind_errors())
        return kind_errors or list(self.check())

    def _kind_errors(self) -> Iterator[ParameterError]:
        for field, kind in _kinds(type(self)).items():
            value = getattr(self, field)
            if value is None and kind.is_optional:
                continue
            if kind.is_text and not isinstance(value, str):
                yield ParameterError(field, value, "a text")
            if not kind.is_number:
                continue
            if isinstance(value, bool) or not isinstance(value, int | float | np.number):
                yield ParameterError(field, value, "a number")
            elif not is_finite(value):
                yield ParameterError(field, value, "a finite number")
            elif needs_unit(kind.unit) and value < COLD:
                expected = f"a temperature with its unit, as in {as_temperature(float(value))}"
                why = f"{value:g} K is {value - 273.15:g} °C"
                yield ParameterError(field, value, expected, why)


def _read(kind: type[BaseLaw], given: Mapping[str, Any]) -> Mapping[str, Any]:
    """Parameters with their texts read, each in its unit. Raises `ParameterError`."""
    if not any(isinstance(value, str | tuple) for value in given.values()):
        return given
    read: dict[str, Any] = {}
    hinted = {**given, **read_hinted(kind.unit_hints, given)} if kind.unit_hints else given
    for name, asked in _kinds(kind).items():
        value = owned(hinted[name])
        if name == kind.open_ended:
            read[name] = tuple((key, read_numbers(key, part, None)) for key, part in value)
            continue
        numbers = asked.is_number or asked.is_numbers
        read[name] = read_numbers(name, value, asked.unit) if numbers else value
    return read


class _Kind(NamedTuple):
    """What the type hint of a parameter says."""

    unit: Unit | None
    is_number: bool
    is_numbers: bool
    is_text: bool
    is_optional: bool


@cache
def _kinds(law: type[BaseLaw]) -> Mapping[str, _Kind]:
    return {
        name: _Kind(
            hint_unit(hint), is_numeric(hint), holds_numbers(hint), is_text(hint), optional(hint)
        )
        for name, hint in parameters(law).items()
    }


@cache
def parameters(law: type[BaseLaw]) -> Mapping[str, Any]:
    """The fields of a law with their type hints, `Annotated` units included."""
    hints = typing.get_type_hints(law, include_extras=True)
    return {f.name: hints[f.name] for f in dataclasses.fields(law)}  # type: ignore[arg-type]


def is_finite(value: Any) -> bool:
    """Whether a number is finite, and fits a float at all."""
    try:
        return math.isfinite(value)
    except OverflowError:
        return False


def as_array(value: float) -> Array:
    """One value as the arrays that laws compute with."""
    return np.array([value], dtype=np.float64)


def unit_fields(law: BaseLaw, *fields: str) -> None:
    """Bring the unit fields of a law under construction to their one spelling."""
    for field in fields:
        if isinstance(value := getattr(law, field), str):
            object.__setattr__(law, field, spelled(value))


@cache
def hint_unit(hint: Any) -> Unit | None:
    """The unit mark inside a type hint, wherever it is."""
    if typing.get_origin(hint) is Annotated:
        return next((m for m in hint.__metadata__ if isinstance(m, Unit)), None)
    return next((u for a in typing.get_args(hint) if (u := hint_unit(a))), None)


@cache
def _alternatives(hint: Any) -> tuple[Any, ...]:
    if typing.get_origin(hint) is Annotated:
        return _alternatives(hint.__origin__)
    args = typing.get_args(hint)
    is_union = args and typing.get_origin(hint) not in (tuple, list, dict, typing.Literal)
    return tuple(b for a in args for b in _alternatives(a)) if is_union else (hint,)


def is_numeric(hint: Any) -> bool:
    """Whether a parameter of this type is a number (an int or float, perhaps None)."""
    kinds = set(_alternatives(hint)) - {type(None)}
    return bool(kinds) and kinds <= {int, float}


def holds_numbers(hint: Any) -> bool:
    """Whether a parameter of this type is a list of numbers, at any depth (perhaps None)."""
    kinds = set(_alternatives(hint)) - {type(None)}
    parts = [part for kind in kinds for part in typing.get_args(kind) if part is not ...]
    return bool(parts) and all(is_numeric(part) or holds_numbers(part) for part in parts)


def is_text(hint: Any) -> bool:
    """Whether a parameter of this type is a text (perhaps None)."""
    return set(_alternatives(hint)) - {type(None)} == {str}


def optional(hint: Any) -> bool:
    """Whether None is allowed."""
    return type(None) in _alternatives(hint)


#: In the place of a parameter's unit: that of the law's result.
OF_RESULT = "result"


@dataclass(frozen=True, eq=False)
class FitInput:
    """What a law is fitted to.

    Attributes
    ----------
    x, y : what the law takes and should give at each mark: shape (n,).
    unit : the law's unit out, as it says it; None where it keeps the one that comes in.
    takes : the law's unit in, where it says one.
    like : a law of the same kind whose fixed parameters stay.
    degree : of a polynomial.
    gain_stays : whether an offset alone is fitted.
    """

    x: Array
    y: Array
    unit: str | None
    takes: str | None
    like: BaseLaw | None
    degree: int | None
    gain_stays: bool

    def fixed(self, name: str, default: float) -> float:
        """Return a parameter that stays as it was."""
        value = getattr(self.like, name, None)
        return default if value is None else float(value)


class FitModel(ABC):
    """One kind of law with its free parameters."""

    #: Names of the free parameters, as the law spells them, and their units.
    names: tuple[str, ...]
    units: tuple[str | None, ...]

    @property
    def paths(self) -> tuple[str, ...]:
        """Where the law has them: `coefficients[2]` is a number in a list, counted from 1."""
        return self.names

    #: Parameters that may be missing, and the value that each then has.
    neutral: Mapping[str, float] = MappingProxyType({})

    #: What to mind about any fit of this model.
    notes: tuple[str, ...] = ()

    def refuse(self, asked: FitInput, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        """Yield marks (by their places) that the law cannot have, and why."""
        yield from ()

    @abstractmethod
    def design(self, x: Array) -> Array:
        """Return the columns over x: shape (n, p)."""

    def fixed(self, x: Array) -> Array:
        """Return what is beside the columns without a parameter."""
        return np.zeros_like(x)

    def link(self, eta: Array) -> Array:
        """Return the law's result for a value of the straight side."""
        return eta

    def link_slope(self, eta: Array) -> Array:
        """Return the derivative of the link."""
        return np.ones_like(eta)

    def unlink(self, y: Array) -> Array:
        """Return the straight side of a result; NaN where no parameters give it."""
        return y

    @abstractmethod
    def values(self, theta: Array) -> Array:
        """Return the law's parameters for θ."""

    @abstractmethod
    def values_slope(self, theta: Array) -> Array:
        """Return their derivatives: shape (p, p), a row for each parameter."""

    @abstractmethod
    def law(self, values: Array) -> BaseLaw:
        """Return the law with these parameters. Raises `ParameterError` if they make no sense."""

    def exact(self, asked: FitInput) -> BaseLaw | None:
        """Return the law that is exact at all marks, where there is a better way to write it."""
        return None


def reject(condition: str) -> str:
    """The statement that ends without a value where the condition holds."""
    return f"if {condition}:\n    return NONE"


def constant(value: float) -> str:
    """A constant; a negative one in brackets."""
    text = repr(float(value))
    return f"({text})" if text.startswith("-") else text


def reject_outside(domain: tuple[float, float] | None) -> list[str]:
    """The statement that ends without a value outside a domain, if there is one."""
    if domain is None:
        return []
    return [reject(f"x < {constant(domain[0])} or x > {constant(domain[1])}")]


V = TypeVar("V")


class Evaluator(ABC, Generic[V]):
    """Computes an expression of the small language: a subclass says what a value is and what each
    operation does to it, this walks."""

    def value(self, e: ast.AST) -> V:
        """The value of an expression, its parts first."""
        match e:
            case ast.Constant(value=number):
                return self.constant(number)
            case ast.Name(id=name):
                return self.name(name)
            case ast.UnaryOp(op=op, operand=operand):
                return self.unary(op, self.value(operand))
            case ast.BinOp(left=left, op=op, right=right):
                return self.binary(op, self.value(left), self.value(right))
            case ast.Call(func=ast.Name(id=name), args=args):
                return self.call(name, [self.value(argument) for argument in args])
        return self.other(e)

    @abstractmethod
    def constant(self, number: Any) -> V:
        """A number in the text."""

    @abstractmethod
    def name(self, name: str) -> V:
        """What a name represents."""

    @abstractmethod
    def unary(self, op: ast.unaryop, value: V) -> V:
        """A sign, or a `not`."""

    @abstractmethod
    def binary(self, op: ast.operator, left: V, right: V) -> V:
        """An operation on two values."""

    @abstractmethod
    def call(self, name: str, values: list[V]) -> V:
        """A function of values."""

    def other(self, e: ast.AST) -> V:
        """Whatever else the language has here."""
        raise TypeError(f"not part of the language: {ast.unparse(e)}")
