"""Names that are safe in every target, and texts that stay inside its comments."""

from __future__ import annotations

import re
import unicodedata
import zlib
from collections.abc import Iterable, Iterator

from ..error_types import ParameterError
from ..ruler.units import for_column

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
            "_ends",
            "_with",
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
    """The names that would clash in exported code, as kind, name, error.

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


#: Signs in units that a small display does not have, in letters that it has.
_LETTERS = {"μ": "u", "Ω": "ohm", "°": "deg"}


def plain_unit(unit: str | None) -> str:
    """A unit in the letters that a small display has: `C`, `%`, `ohm`."""
    short = {"degC": "C", "degF": "F", "deg": "deg", "zone": "", None: ""}
    if unit in short:
        return short[unit]
    text = unicodedata.normalize("NFKD", str(unit))  # a raised 2 is a 2
    for sign, plain in _LETTERS.items():
        text = text.replace(sign, plain)
    return text if text.isascii() and text.isprintable() else for_column(ascii(text)[1:-1])
