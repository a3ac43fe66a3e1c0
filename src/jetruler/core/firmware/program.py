"""A small program in a restricted Python, the exact model of the arithmetic it runs on, machines
that remember, and names that are safe in every target."""

from __future__ import annotations

import ast
import re
import unicodedata
import zlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from ..error_types import ParameterError
from ..numerics import AnyArray, Truths
from ..ruler.base_law import Evaluator
from ..ruler.units import for_column

#: The widest number of each whole arithmetic.
LARGEST = {"int16": 2**15 - 1, "int32": 2**31 - 1, "int64": 2**63 - 1}

#: Functions that a program of floats may call.
FUNCTIONS: dict[str, Any] = {
    "log": np.log, "log10": np.log10, "log2": np.log2, "exp": np.exp, "sqrt": np.sqrt,
    "abs": np.abs, "sin": np.sin, "cos": np.cos, "tan": np.tan, "asin": np.arcsin,
    "acos": np.arccos, "atan": np.arctan, "sinh": np.sinh, "cosh": np.cosh, "tanh": np.tanh,
    "floor": np.floor, "ceil": np.ceil, "trunc": np.trunc,
}  # fmt: skip


class TooWideError(ArithmeticError):
    """An intermediate that does not fit the target's arithmetic, or a negative one shifted."""


@dataclass(frozen=True)
class Program:
    """A function of a count. body: its statements. tables: constants by name. arith: "float",
    "int64", "int32" or "int16". counts: the type of its count; that of the arithmetic, and
    "int32" for floats, if left out. NONE in the body stands for "no value"."""

    name: str
    body: str
    tables: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    arith: str = "int32"
    counts: str = ""

    @property
    def takes(self) -> str:
        """The type of its count."""
        return self.counts or ("int32" if self.arith == "float" else self.arith)

    @property
    def tree(self) -> list[ast.stmt]:
        """The statements."""
        return ast.parse(self.body).body

    @property
    def calls(self) -> frozenset[str]:
        """The functions that it calls."""
        nodes = (node for statement in self.tree for node in ast.walk(statement))
        called = (n.func for n in nodes if isinstance(n, ast.Call))
        return frozenset(f.id for f in called if isinstance(f, ast.Name))

    @property
    def table_bytes(self) -> int:
        """What the tables take."""
        return sum(len(t) * width_of(t) // 8 for t in self.tables.values())

    @property
    def operations(self) -> int:
        """Arithmetic and comparisons in the text; what a loop holds counts once a turn."""
        counted = (ast.BinOp, ast.UnaryOp, ast.Compare, ast.Call)
        turns = max((len(t) for t in self.tables.values()), default=1)
        total = 0
        for statement in self.tree:
            n = sum(isinstance(node, counted) for node in ast.walk(statement))
            total += n * max(1, (turns - 1).bit_length()) if isinstance(statement, ast.While) else n
        return total


def width_of(values: tuple[int, ...]) -> int:
    """Bits of the smallest usual type that holds them, signed unless none is below 0."""
    low, high = min(values), max(values)
    for bits in (8, 16, 32, 64):
        if (low >= 0 and high < 2**bits) or (-(2 ** (bits - 1)) <= low and high < 2 ** (bits - 1)):
            return bits
    raise TooWideError(f"{low} … {high} do not fit 64 bits")


class ProgramModel(Evaluator[Any]):
    """Runs a program over many counts at once. widest: the largest whole intermediate met."""

    def __init__(self, program: Program, kind: type[np.floating[Any]] = np.float32) -> None:
        self.program, self.kind = program, kind
        self.widest = 0
        self._whole = program.arith != "float"
        self._limit = LARGEST.get(program.arith, 0)
        self._tables = {n: np.array(t, dtype=np.int64) for n, t in program.tables.items()}

    def run(self, counts: AnyArray, was: AnyArray | None = None) -> AnyArray:
        """The result at each count: whole numbers, `none` where there is no value; or floats,
        NaN there. was: a second parameter, for functions that have one."""
        self._n, self._counts = counts.size, counts
        start = counts.astype(np.int64 if self._whole else self.kind)
        self._names: dict[str, Any] = {"n": start, "NONE": -self._limit - 1}
        if not self._whole:
            self._names["NONE"] = self.kind(np.nan)
        if was is not None:
            self._names["was"] = was.astype(np.int64)
        self._result: AnyArray = np.zeros(self._n, start.dtype)
        open_lanes = np.ones(self._n, np.bool_)
        with np.errstate(all="ignore"):
            left = self._block(self.program.tree, open_lanes)
        if left.any():
            raise TooWideError("the program ends without a result")
        return self._result

    def _block(self, statements: list[ast.stmt], lanes: Truths) -> Truths:
        """Run statements where lanes are open; the lanes that are open still."""
        for statement in statements:
            if not lanes.any():
                return lanes
            lanes = self._statement(statement, lanes)
        return lanes

    def _in_lanes(self, e: ast.expr, lanes: Truths) -> Any:
        """The value of an expression; only what is in open lanes must fit."""
        self._lanes = lanes
        return self.value(e)

    def _statement(self, s: ast.stmt, lanes: Truths) -> Truths:
        if isinstance(s, ast.Return) and s.value is not None:
            self._result = np.where(lanes, self._in_lanes(s.value, lanes), self._result)
            return np.zeros_like(lanes)
        if isinstance(s, ast.Assign) and isinstance(s.targets[0], ast.Name):
            name, value = s.targets[0].id, self._in_lanes(s.value, lanes)
            if lanes.all():
                self._names[name] = np.broadcast_to(value, self._n)
                return lanes
            before = self._names.get(name, np.zeros(self._n, self._result.dtype))
            self._names[name] = np.where(lanes, value, before)
            return lanes
        if isinstance(s, ast.If):
            yes = lanes & self._in_lanes(s.test, lanes)
            return self._block(s.body, yes) | self._block(s.orelse, lanes & ~yes)
        if isinstance(s, ast.While):
            left = np.zeros_like(lanes)
            while lanes.any():
                go = lanes & self._in_lanes(s.test, lanes)
                left |= lanes & ~go
                lanes = self._block(s.body, go)
            return left
        raise TypeError(f"not part of the language: {ast.unparse(s)}")

    def constant(self, number: Any) -> Any:
        return self._kept(number)

    def name(self, name: str) -> Any:
        return self._names[name]

    def unary(self, op: ast.unaryop, value: Any) -> Any:
        return ~value if isinstance(op, ast.Not) else self._kept(-value)

    def call(self, name: str, values: list[Any]) -> Any:
        return FUNCTIONS[name](*values)

    def binary(self, op: ast.operator, left: Any, right: Any) -> Any:
        if isinstance(op, ast.FloorDiv):
            a, b = np.asarray(left), np.where(np.asarray(right) == 0, 1, right)
            return self._kept(np.sign(a) * np.sign(b) * (np.abs(a) // np.abs(b)))
        if isinstance(op, ast.RShift):
            if np.any(np.asarray(left < 0) & self._lanes):
                raise TooWideError("a negative number is shifted")
            return self._kept(np.asarray(left) >> right)
        if isinstance(op, ast.Mult) and self.program.arith == "int64":
            self._check_product(left, right)
        return self._kept(_COMPUTED[type(op)](left, right))

    def other(self, e: ast.AST) -> Any:
        if isinstance(e, ast.Subscript) and isinstance(e.value, ast.Name):
            table, i = self._tables[e.value.id], self.value(e.slice)
            return table[np.clip(i, 0, table.size - 1)]  # lanes that are closed may be anywhere
        if isinstance(e, ast.Compare) and not self._whole and is_of_count(e):
            assert isinstance(e.comparators[0], ast.Constant | ast.UnaryOp)
            limit = ast.literal_eval(e.comparators[0])
            return _COMPARED[type(e.ops[0])](self._counts, limit)  # a float may not hold it
        if isinstance(e, ast.Compare):
            return _COMPARED[type(e.ops[0])](self.value(e.left), self.value(e.comparators[0]))
        if isinstance(e, ast.BoolOp):
            joined = np.logical_or if isinstance(e.op, ast.Or) else np.logical_and
            return joined.reduce([self.value(part) for part in e.values])
        return super().other(e)

    def _check_product(self, left: Any, right: Any) -> None:
        """Refuse a product of 64 bits that would wrap round unseen."""
        size = np.abs(np.asarray(left, np.float64) * np.asarray(right, np.float64))
        here = size[self._lanes] if size.shape == self._lanes.shape else size
        if here.size and float(here.max()) >= 2.0**62:
            raise TooWideError(f"an intermediate of {here.max():.3g} does not fit int64")

    def _kept(self, value: Any) -> Any:
        """Note how wide a whole number is; refuse one that does not fit."""
        if not self._whole:
            return value if isinstance(value, np.ndarray) else self.kind(value)
        here, lanes = np.asarray(value), self._lanes
        if here.shape == lanes.shape and not lanes.all():
            here = here[lanes]
        widest = max(int(here.max()), -int(here.min())) if here.size else 0
        if widest > self._limit:
            raise TooWideError(f"an intermediate of {widest} does not fit {self.program.arith}")
        self.widest = max(self.widest, widest)
        return value


def is_of_count(e: ast.Compare) -> bool:
    """Whether a comparison is that of the count with a whole number."""
    return isinstance(e.left, ast.Name) and e.left.id == "n"


_COMPARED: dict[type[ast.cmpop], Any] = {
    ast.Lt: np.less, ast.LtE: np.less_equal, ast.Gt: np.greater, ast.GtE: np.greater_equal,
    ast.Eq: np.equal, ast.NotEq: np.not_equal,
}  # fmt: skip
_COMPUTED: dict[type[ast.operator], Any] = {
    ast.Add: np.add, ast.Sub: np.subtract, ast.Mult: np.multiply, ast.Div: np.true_divide,
    ast.Pow: np.power,
}  # fmt: skip


@dataclass(frozen=True)
class Machine:
    """One machine, the same for every target.

    name: of its state (a struct, a class, a function block). update: of the function that moves it
    on. about: what it is, a line each. inputs: whole numbers; `now` is a time in milliseconds that
    may wrap. state: names of what it remembers, with the length of a list or 0 for a number; all
    start at 0. times: those of them that are times. body: statements; the state stands behind
    `s.`, NONE is no value, and `elapsed(now, then, most)` is the time since, at most `most`.
    programs: what it calls and brings along. calls: conversions that it calls, with their
    arithmetic. arith: of all its numbers but the times, "int32" or, for wider counts, "int64".
    """

    name: str
    update: str
    about: tuple[str, ...]
    inputs: tuple[str, ...]
    state: Mapping[str, int]
    body: str
    times: frozenset[str] = frozenset()
    programs: tuple[Program, ...] = ()
    calls: Mapping[str, str] = field(default_factory=dict)
    arith: str = "int32"

    @property
    def tree(self) -> list[ast.stmt]:
        """The statements."""
        return ast.parse(self.body).body

    @property
    def arithmetics(self) -> Mapping[str, str]:
        """The functions that it calls whose numbers are others than its own, with those."""
        brought = {program.name: program.arith for program in self.programs}
        return {name: a for name, a in {**brought, **self.calls}.items() if a != self.arith}

    @property
    def ram_bytes(self) -> int:
        """What its state takes."""
        own = 8 if self.arith == "int64" else 4
        return sum((4 if n in self.times else own) * max(1, size) for n, size in self.state.items())

    @property
    def window(self) -> int:
        """How many samples of a change within a time it remembers at most; 0 for none."""
        return max((n for name, n in self.state.items() if name in self.times), default=0)

    @property
    def cost(self) -> str:
        """What it takes of a chip, in words; of a window of samples, how it takes less."""
        flash = sum(program.table_bytes for program in self.programs)
        text = f"{self.ram_bytes} bytes of RAM, {flash} bytes of tables"
        text += f", about {self.operations} operations"
        if self.window <= 16:
            return text
        few = sum(n - 16 for n in self.state.values() if n == self.window)
        less = self.ram_bytes - few * (8 if self.arith == "int64" else 4)
        cheaper = f"--window 16 remembers fewer, in {less} bytes of RAM"
        return f"{text}; of a change it remembers {self.window} samples: {cheaper}"

    @property
    def operations(self) -> int:
        """Arithmetic and comparisons in the text, of what it brings along too; a loop once."""
        counted = (ast.BinOp, ast.UnaryOp, ast.Compare, ast.Call)
        own = sum(isinstance(node, counted) for s in self.tree for node in ast.walk(s))
        return own + sum(program.operations for program in self.programs)

    def brought(self, written: set[str]) -> list[Program]:
        """The programs that it brings along, but for those in `written`; they are noted there."""
        new = {p.name: p for p in self.programs if p.name not in written}
        written.update(new)
        return list(new.values())

    @property
    def uses_time(self) -> bool:
        """Whether it asks how much time has passed."""
        return "elapsed(" in self.body


def simplified(result: str) -> str:
    """An expression without what changes nothing: `0 + …`, `n - 0`, `n - -5`, `… * 1`, `>> 0`."""
    return ast.unparse(_Simpler().visit(ast.parse(result, mode="eval").body))


class _Simpler(ast.NodeTransformer):
    def visit_BinOp(self, node: ast.BinOp) -> ast.expr:
        self.generic_visit(node)
        left, right = _whole(node.left), _whole(node.right)
        match node.op:
            case ast.Add() if left == 0:
                return node.right
            case ast.Add() | ast.Sub() | ast.RShift() if right == 0:
                return node.left
            case ast.Mult() if right == 1:
                return node.left
            case ast.FloorDiv() if right == 1:
                return node.left
            case ast.Sub() if right is not None and right < 0:
                return ast.BinOp(node.left, ast.Add(), ast.Constant(-right))
        return node


def _whole(e: ast.expr) -> int | None:
    """The whole number that an expression is; None for any other."""
    if isinstance(e, ast.UnaryOp) and isinstance(e.op, ast.USub):
        inside = _whole(e.operand)
        return None if inside is None else -inside
    return e.value if isinstance(e, ast.Constant) and type(e.value) is int else None


def indented(lines: str, by: int = 1) -> str:
    """Statements as the body of another one."""
    return "\n".join("    " * by + line for line in lines.splitlines())


_C99 = """
auto break case char const continue default do double else enum extern float for goto if inline int
long register restrict return short signed sizeof static struct switch typedef union unsigned void
volatile while _bool _complex _imaginary asm typeof bool true false complex imaginary
"""

#: Types, functions and macros of stdint.h and math.h, and of what firmware includes beside them.
_C99_HEADERS = """
int8_t int16_t int32_t int64_t uint8_t uint16_t uint32_t uint64_t int_least8_t int_least16_t
int_least32_t int_least64_t uint_least8_t uint_least16_t uint_least32_t uint_least64_t int_fast8_t
int_fast16_t int_fast32_t int_fast64_t uint_fast8_t uint_fast16_t uint_fast32_t uint_fast64_t
intptr_t uintptr_t intmax_t uintmax_t size_t ssize_t ptrdiff_t wchar_t wint_t sig_atomic_t off_t
time_t clock_t div_t ldiv_t lldiv_t va_list jmp_buf fpos_t file float_t double_t
int8_min int8_max int16_min int16_max int32_min int32_max int64_min int64_max uint8_max uint16_max
uint32_max uint64_max intmax_min intmax_max uintmax_max intptr_min intptr_max uintptr_max size_max
acos asin atan atan2 cos sin tan acosh asinh atanh cosh sinh tanh exp exp2 expm1 frexp ilogb ldexp
log log10 log1p log2 logb modf scalbn scalbln cbrt fabs hypot pow sqrt erf erfc lgamma tgamma ceil
floor nearbyint rint lrint llrint round lround llround trunc fmod remainder remquo copysign nan
nextafter nexttoward fdim fmax fmin fma fpclassify isfinite isinf isnan isnormal signbit isgreater
isgreaterequal isless islessequal islessgreater isunordered infinity huge_val gamma signgam j0 j1
jn y0 y1 yn drem significand finite pi
abs labs llabs div ldiv lldiv abort exit atexit getenv system malloc calloc realloc free rand srand
atof atoi atol atoll strtod strtof strtol strtoul bsearch qsort printf fprintf sprintf snprintf
scanf fscanf sscanf puts fputs gets fgets putc putchar getc getchar ungetc fopen fclose fread
fwrite fflush fseek ftell rewind remove rename perror memcpy memmove memset memcmp memchr strcpy
strncpy strcat strncat strcmp strncmp strlen strchr strstr strtok time clock difftime mktime
gmtime localtime signal raise setjmp longjmp assert errno null eof stdin stdout stderr index rindex
read write open close link unlink pipe dup fork wait sleep usleep kill select send recv bind listen
accept connect socket alarm pause nice sync main linux unix i386
"""
_PYTHON = """
and as assert async await break class continue def del elif else except finally for from global if
import in is lambda match nonlocal not or pass raise return try type while with yield none case
abs aiter all anext any ascii bin bool breakpoint bytearray bytes callable chr classmethod compile
complex copyright credits delattr dict dir divmod enumerate eval exec exit filter float format
frozenset getattr globals hasattr hash help hex id input int isinstance issubclass iter len license
list locals map max memoryview min next object oct open ord pow print property quit range repr
reversed round set setattr slice sorted staticmethod str sum super tuple vars zip ellipsis
notimplemented math self
"""
_STRUCTURED_TEXT = """
abs acos action add any any_num any_int any_real any_bit any_date array asin at atan atan2 bool by
byte byte_array case class concat configuration constant cos ctd ctu ctud date date_and_time delete
dint div do dt dword else elsif end_action end_case end_class end_configuration end_for end_function
end_function_block end_if end_interface end_method end_namespace end_program end_repeat
end_resource end_step end_struct end_transition end_type end_var end_while eq exit exp expt
extends f_edge f_trig false final find for from function function_block ge gt if implements
initial_step insert int interface internal interval lab le left len limit lint ln log lreal lt
lword max method mid min mod move mul mux namespace ne non_retain not null of on or overlap
override priority private program protected public r_edge r_trig read_only read_write real
ref ref_to repeat replace resource retain return right rol ror rs sel semaphore shl shr sin single
sint sqrt sr step string struct sub super tan task then this time time_of_day to tod tof ton tp
transition true trunc type udint uint ulint until using usint var var_access var_config
var_external var_global var_in_out var_input var_output var_temp while with word wstring wchar char
xor round floor ceil en eno
"""

#: Parameters and variables of the code that is written, where it calls a channel by its name.
_OWN = """
n x i j h w d k z s t v c y r c0 c1 c2 c3 was tie now go drop counts failed self selftest jetruler
holding since staying turned result
"""
RESERVED = frozenset(f"{_C99} {_C99_HEADERS} {_PYTHON} {_STRUCTURED_TEXT} {_OWN}".split())

#: Functions of structured text that convert one type to another, and functions of math.h for
#: another type than double.
_MADE = re.compile(
    r"\w+_to_(?:bool|s?int|[dl]int|u[sdl]?int|l?real|byte|d?word|lword|string|time|date|bcd)|"
    r"(?:" + "|".join(_C99_HEADERS[_C99_HEADERS.index("acos") :].split()[:62]) + r")[fl]"
)


def is_reserved(name: str) -> bool:
    """Whether a lower-case name has a meaning in one of the targets."""
    return name in RESERVED or _MADE.fullmatch(name) is not None


def safe_name(name: str) -> str:
    """A name as C, Python and structured text all take it: lower-case ASCII. Letters that have none
    like them there leave a number, so that two such names stay two."""
    parts = unicodedata.normalize("NFKD", name)
    plain = parts.encode("ascii", "ignore").decode().lower()
    text = re.sub(r"_+", "_", re.sub(r"[^a-z0-9_]", "_", plain)).strip("_")
    if any(ord(sign) > 127 and not unicodedata.combining(sign) for sign in parts):
        text = f"{text or 'ch'}_{zlib.crc32(name.encode()) & 0xFFFFFF:06x}"
    if not text or text[0].isdigit():
        text = f"ch_{text}".rstrip("_")
    return f"{text}_value" if is_reserved(text) else text


#: What an export adds to a name, by what has the name.
ENDINGS = {
    "channel": (
        *(
            "",
            "_steps",
            "_steps_x",
            "_steps_y",
            "_flags",
            "_flags_of",
            "_x",
            "_y",
            "_text",
            "_has_value",
            "_has_value_of",
            "_count",
        ),
        *("_smooth", "_smoothing", "_holding", "_zone", "_zone_at", "_zone_from", "_zone_to"),
        *("_of_zone", *(f"_output{i}" for i in range(1, 10))),
    ),
    "trip": ("", "_update", "_on", *(f"_if{i}" for i in range(1, 10))),
    "drive": ("", "_update", "_goal", "_goal_x", "_goal_y"),
}


def generated_names(kind: str, name: str) -> list[str]:
    """All names that an export may give to what belongs to a channel, a trip or a drive; macros
    and classes too, which differ from these by upper and lower case alone in other languages."""
    safe = safe_name(name)
    made = [safe + ending for ending in ENDINGS[kind]]
    if kind == "channel":
        made += [f"{safe}_scale", f"{safe}_no_value"]
    return made


def name_clashes(named: Iterable[tuple[str, str]]) -> Iterator[tuple[str, str, ParameterError]]:
    """The names that cannot stand beside one another in exported code, as kind, name, error.

    named: kind ("channel", "trip", "drive") and name of each.
    """
    owners: dict[str, tuple[str, str]] = {}
    for kind, name in named:
        made = generated_names(kind, name)
        for one in made:
            if one in owners:
                other_kind, other = owners[one]
                has = "this name" if name == other else f"{one} in exported code"
                why = f"{other_kind} {other} has {has} already"
                yield kind, name, ParameterError("name", name, "another name", why)
                break
        owners |= dict.fromkeys(made, (kind, name))


def comment(text: str) -> str:
    """A text that stays inside a comment of any target, on one line."""
    text = "".join(" " if unicodedata.category(c)[0] in "CZ" else c for c in text)
    text = text.replace("\\", "|")  # which would join two lines
    for ends in ("*/", "/*", "*)", "(*", "//", "??"):
        while ends in text:
            text = text.replace(ends, " ".join(ends))
    return text.strip()


def plain_unit(unit: str | None) -> str:
    """A unit in the letters that a small display has: `C`, `%`, `ohm`."""
    short = {"degC": "C", "degF": "F", "deg": "deg", "zone": "", None: ""}
    if unit in short:
        return short[unit]
    text = str(unit)
    return text if text.isascii() and text.isprintable() else for_column(text)
