"""A law's formula as it is typed in, and the same in other orders: divide first, multiply first,
every constant scaled."""

from __future__ import annotations

import ast
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from fractions import Fraction
from typing import NamedTuple

import numpy as np

from ..bench.channel import Channel
from ..error_types import ParameterError
from ..numerics import AnyArray, Array, Truths
from ..ruler.ruler import Law
from .c_arithmetic import DOUBLE, INT32, INT64, KINDS, CMachine, CType, Operation

#: What a program allows for beside a tie, which nobody types.
_TIE = re.compile(r" [+-] tie \* (?:x|abs\(x\))")
#: A constant has at most this many decimals when it is scaled.
DECIMALS = 6
_SIGNS: dict[type[ast.AST], str] = {
    ast.Add: "+", ast.Sub: "-", ast.Mult: "*", ast.Div: "/", ast.Lt: "<", ast.LtE: "<=",
    ast.Gt: ">", ast.GtE: ">=", ast.Eq: "==", ast.NotEq: "!=",
}  # fmt: skip
_BINDS: dict[type[ast.AST], int] = {ast.Add: 1, ast.Sub: 1, ast.Mult: 2, ast.Div: 2}

Statements = list[ast.stmt]


class NoWholeFormError(ValueError):
    """A formula that whole numbers cannot compute, however they are scaled; says what in it."""


def typed_statements(law: Law) -> Statements | None:
    """A law as people type it in; None where nobody would."""
    found = law.typed()
    if found is None:
        return None
    tree = ast.parse(_TIE.sub("", "\n".join(found)))
    return _Plain().visit(tree).body  # type: ignore[no-any-return]


class _Plain(ast.NodeTransformer):
    """A minus before a constant is the constant's own; nobody types "+ −50"."""

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.expr:
        self.generic_visit(node)
        if isinstance(node.op, ast.USub) and isinstance(node.operand, ast.Constant):
            return ast.Constant(-node.operand.value)  # type: ignore[operator]
        return node

    def visit_BinOp(self, node: ast.BinOp) -> ast.expr:
        self.generic_visit(node)
        right = node.right
        below = isinstance(right, ast.Constant) and right.value < 0  # type: ignore[operator]
        if isinstance(node.op, ast.Add) and below:
            assert isinstance(right, ast.Constant)
            return ast.BinOp(node.left, ast.Sub(), ast.Constant(-right.value))  # type: ignore[operator]
        return node


def divided_first(statements: Statements) -> Statements:
    """Every product with a division, its first factor divided before it is multiplied."""
    return _Reordered(lambda first, rest, under: [(first, None), *_over(under), *_times(rest)]).of(
        statements
    )


def multiplied_first(statements: Statements) -> Statements:
    """Every product with a division, all factors multiplied before it is divided."""
    return _Reordered(lambda first, rest, under: [(first, None), *_times(rest), *_over(under)]).of(
        statements
    )


Part = tuple[ast.expr, type[ast.operator] | None]


def _times(factors: Sequence[ast.expr]) -> list[Part]:
    return [(factor, ast.Mult) for factor in factors]


def _over(divisors: Sequence[ast.expr]) -> list[Part]:
    return [(divisor, ast.Div) for divisor in divisors]


class _Reordered(ast.NodeTransformer):
    """Products and quotients written in another order."""

    def __init__(
        self, order: Callable[[ast.expr, list[ast.expr], list[ast.expr]], list[Part]]
    ) -> None:
        self.order = order

    def of(self, statements: Statements) -> Statements:
        """The statements in that order; they are left as they are."""
        copied = ast.parse(ast.unparse(ast.Module(statements, [])))
        return self.visit(_Plain().visit(copied)).body  # type: ignore[no-any-return]

    def visit_BinOp(self, node: ast.BinOp) -> ast.expr:
        if not isinstance(node.op, ast.Mult | ast.Div):
            return self.generic_visit(node)  # type: ignore[return-value]
        above: list[ast.expr] = []
        under: list[ast.expr] = []
        _factors(node, above, under)
        above, under = ([self.visit(e) for e in side] for side in (above, under))
        if not under:
            return _joined(_times(above))
        return _joined(self.order(above[0], above[1:], under))


def _factors(e: ast.expr, above: list[ast.expr], under: list[ast.expr]) -> None:
    """The factors of a product, and its divisors, as they are written from the left."""
    if isinstance(e, ast.BinOp) and isinstance(e.op, ast.Mult):
        _factors(e.left, above, under)
        above.append(e.right)
    elif isinstance(e, ast.BinOp) and isinstance(e.op, ast.Div):
        _factors(e.left, above, under)
        under.append(e.right)
    else:
        above.append(e)


def _joined(parts: list[Part]) -> ast.expr:
    text = parts[0][0]
    for part, op in parts[1:]:
        assert op is not None
        text = ast.BinOp(text, op(), part)
    return text


class Scaled:
    """Statements in whole numbers, where every value represents itself times a scale.

    scale: of what each law gives. Constants get as many decimals as they have; a product divides
    last, and what it is divided by is never larger than it.
    """

    def __init__(self, scale: int) -> None:
        self.scale = scale
        self._scales: dict[str, Fraction] = {"x": Fraction(1)}

    def of(self, statements: Statements) -> Statements:
        """The statements of the next law. Raises `NoWholeFormError`."""
        return ast.parse(self._block(multiplied_first(statements))).body

    def _block(self, statements: Statements) -> str:
        return "\n".join(self._statement(s) for s in statements)

    def _statement(self, s: ast.stmt) -> str:
        if isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
            name, (text, scale) = s.targets[0].id, self._value(s.value)
            self._scales[name] = Fraction(self.scale)
            return f"{name} = {self._at(text, scale, Fraction(self.scale))}"
        if isinstance(s, ast.If):
            test, before = self._condition(s.test), dict(self._scales)
            text = f"if {test}:\n{_indented(self._block(s.body))}"
            after, self._scales = self._scales, before
            # What only one way assigns has that scale on the other way too.
            others = [self._block(s.orelse)] if s.orelse else []
            for name, scale in after.items():
                if self._scales.get(name, scale) != scale:
                    others.append(f"{name} = {self._at(name, self._scales[name], scale)}")
                self._scales[name] = scale
            return text + (f"\nelse:\n{_indented(chr(10).join(others))}" if others else "")
        return ast.unparse(s)

    def _condition(self, e: ast.expr) -> str:
        if isinstance(e, ast.BoolOp):
            sign = " or " if isinstance(e.op, ast.Or) else " and "
            return sign.join(self._condition(part) for part in e.values)
        assert isinstance(e, ast.Compare)
        left, right, _ = self._on_one_scale(self._value(e.left), self._value(e.comparators[0]))
        return f"{left} {_SIGNS[type(e.ops[0])]} {right}"

    def _value(self, e: ast.expr) -> tuple[str, Fraction]:
        """An expression in whole numbers, and what it is multiplied by."""
        if isinstance(e, ast.Constant):
            return self._constant(float(e.value))  # type: ignore[arg-type]
        if isinstance(e, ast.Name):
            return e.id, self._scales[e.id]
        if isinstance(e, ast.UnaryOp):
            text, scale = self._value(e.operand)
            return f"-({text})", scale
        if isinstance(e, ast.Call) and isinstance(e.func, ast.Name):
            return self._call(e.func.id, e.args)
        if not isinstance(e, ast.BinOp) or isinstance(e.op, ast.Pow):
            raise NoWholeFormError("a power" if isinstance(e, ast.BinOp) else ast.unparse(e))
        if isinstance(e.op, ast.Add | ast.Sub):
            left, right, scale = self._on_one_scale(self._value(e.left), self._value(e.right))
            return f"({left} {_SIGNS[type(e.op)]} {right})", scale
        left, scale = self._value(e.left)
        right, other = self._value(e.right)
        if isinstance(e.op, ast.Mult):
            return f"{left} * {right}", scale * other
        wanted = max(Fraction(self.scale), scale / other)
        return f"{self._at(left, scale, wanted * other)} / ({right})", wanted

    def _call(self, name: str, args: list[ast.expr]) -> tuple[str, Fraction]:
        if name not in ("abs", "floor", "ceil", "trunc"):
            raise NoWholeFormError(f"{name}()")
        text, scale = self._value(args[0])
        if name == "abs":
            return f"abs({text})", scale
        up = f" + {scale - 1}" if name == "ceil" and scale > 1 else ""
        return f"({text}{up}) / {scale}", Fraction(1)

    def _constant(self, value: float) -> tuple[str, Fraction]:
        for places in range(DECIMALS + 1):
            whole = round(value * 10**places)
            if abs(whole - value * 10**places) <= 1e-9 * abs(value * 10**places):
                break
        return (f"({whole})" if whole < 0 else str(whole)), Fraction(10**places)

    def _on_one_scale(
        self, left: tuple[str, Fraction], right: tuple[str, Fraction]
    ) -> tuple[str, str, Fraction]:
        scale = max(left[1], right[1])
        return self._at(*left, scale), self._at(*right, scale), scale

    @staticmethod
    def _at(text: str, scale: Fraction, wanted: Fraction) -> str:
        """A value at another scale."""
        by = wanted / scale
        if by.denominator != 1:
            return f"({text}) * {by.numerator} / {by.denominator}" if by.numerator != 1 else (
                f"({text}) / {by.denominator}")  # fmt: skip
        plain = re.fullmatch(r"\(?(-?\d+)\)?", text)
        if plain:
            whole = int(plain[1]) * by.numerator
            return f"({whole})" if whole < 0 else str(whole)
        return text if by == 1 else f"({text}) * {by.numerator}"


def _indented(lines: str) -> str:
    return "\n".join(f"    {line}" for line in lines.splitlines())


def as_written(statements: Statements) -> list[str]:
    """Statements as lines for people, in signs that every language has."""
    lines: list[str] = []
    for s in statements:
        if isinstance(s, ast.If):
            lines.append(f"if {_condition_text(s.test)}:")
            lines += [f"    {line}" for line in as_written(s.body)]
            if s.orelse:
                lines += ["else:", *(f"    {line}" for line in as_written(s.orelse))]
        elif isinstance(s, ast.Assign):
            lines.append(f"{ast.unparse(s.targets[0])} = {_text(s.value)}")
        else:
            lines.append("no value")
    return lines


def _condition_text(e: ast.expr) -> str:
    if isinstance(e, ast.BoolOp):
        sign = " or " if isinstance(e.op, ast.Or) else " and "
        return sign.join(map(_condition_text, e.values))
    assert isinstance(e, ast.Compare)
    pairs = zip(e.ops, e.comparators, strict=True)
    return _text(e.left) + "".join(f" {_SIGNS[type(op)]} {_text(right)}" for op, right in pairs)


def _text(e: ast.expr, above: int = 0) -> str:
    if isinstance(e, ast.Constant):
        text = repr(float(e.value)).removesuffix(".0")  # type: ignore[arg-type]
        return f"({text})" if text.startswith("-") and above else text
    if isinstance(e, ast.UnaryOp):
        return f"-{_text(e.operand, 3)}"
    if isinstance(e, ast.Call):
        return f"{ast.unparse(e.func)}({', '.join(map(_text, e.args))})"
    if isinstance(e, ast.BinOp) and type(e.op) in _BINDS:
        binds = _BINDS[type(e.op)]
        text = f"{_text(e.left, binds)} {_SIGNS[type(e.op)]} {_text(e.right, binds + 1)}"
        return f"({text})" if binds < above else text
    if isinstance(e, ast.BinOp):
        return f"pow({_text(e.left)}, {_text(e.right)})"
    return ast.unparse(e)


class Computed(NamedTuple):
    """What came out, NaN for nothing; and each operation with its law, of a single count."""

    values: Array
    overflows: bool
    operations: list[tuple[str, Operation]]


@dataclass(frozen=True)
class Typed:
    """A chain as statements, law by law. scale: what a result is multiplied by."""

    laws: tuple[tuple[str, Statements], ...]
    scale: int = 1

    @classmethod
    def of(cls, channel: Channel) -> Typed:
        laws = []
        for law in channel.ruler.laws:
            found = typed_statements(law)
            if found is None:
                raise ParameterError(
                    "arith", law.name, "laws that are formulas", f"{law.name} has none to type in"
                )
            laws.append((law.name, found))
        return cls(tuple(laws))

    def by(self, order: Callable[[Statements], Statements], scale: int = 1) -> Typed:
        return Typed(tuple((name, order(s)) for name, s in self.laws), scale)

    @property
    def code(self) -> tuple[str, ...]:
        """All statements, for people."""
        return tuple(line for _, statements in self.laws for line in as_written(statements))

    def run(self, kind: CType, int_bits: int, counts: AnyArray) -> Computed:
        machine = CMachine(kind, int_bits)
        x = machine.start(counts)
        operations: list[tuple[str, Operation]] = []
        for name, statements in self.laws:
            x = np.broadcast_to(machine.run(statements, x), counts.shape)
            operations += [(name, one) for one in machine.operations]
        none: Truths = machine.undefined | machine.left
        values = np.where(none, np.nan, x.astype(np.float64) / self.scale)
        return Computed(values, machine.overflows, operations)


def typed_chain(channel: Channel) -> list[tuple[str, Statements]]:
    """The laws of a channel as they are typed in. Raises `ParameterError`."""
    return list(Typed.of(channel).laws)


def computed(channel: Channel, counts: AnyArray, arith: str, int_bits: int) -> Array:
    """What a chain typed in unchanged gives at counts; NaN for nothing. Raises `ParameterError`."""
    return Typed.of(channel).run(KINDS[arith], int_bits, counts).values


def orders_of(
    typed: Typed, kind: CType, scale: int, counts: AnyArray
) -> list[tuple[str, Typed, CType]]:
    """The formulas in every order, each with the type it is computed in. scale: steps of a result
    for one unit; counts: at which larger ones must not overflow."""
    first, last = typed.by(multiplied_first), typed.by(divided_first)
    how = ": multiply first" if first.code == typed.code != last.code else ""
    how = ": divide first" if last.code == typed.code != first.code else how
    wide = DOUBLE if kind.floating else INT64 if kind.bits == 32 else INT32
    found = [(f"as typed in{how}", typed, kind), ("multiply first", first, kind)]
    found.append(("divide first", last, kind))
    found.append((f"multiply first, in {wide.bits} bits", first, wide))
    if kind.floating:
        return found
    best: tuple[str, Typed, CType] | None = None
    for power in range(6, -1, -1):
        by = max(scale, 10**power)
        try:
            scaled = typed.by(Scaled(by).of, by)
        except NoWholeFormError:
            break
        best = (f"constants scaled by {by}, in {wide.bits} bits", scaled, wide)
        if by == scale or not scaled.run(wide, wide.bits, counts).overflows:
            break
    return found if best is None else [*found, best]
