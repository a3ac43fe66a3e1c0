"""Names in exported code: any that a bench may have compiles, in every arithmetic and width."""

from __future__ import annotations

import keyword
import re
from pathlib import Path

import pytest

from jetruler import Bench, Channel, Condition, Counts, JetRulerError, Line, Trip
from jetruler.benchfile.load import parse_bench
from jetruler.core.firmware.bench_machines import machines_of
from jetruler.core.firmware.names import RESERVED, is_reserved, safe_name
from jetruler.core.firmware.selection import export
from jetruler.errors import BenchError
from jetruler.targets import TARGETS, target_named
from jetruler.targets.target import ExportOptions
from tests.conftest import Cli
from tests.helpers.compiled import Printing, needs_compiler, printed_by
from tests.helpers.sizes import sizes, soak, thinned
from tests.helpers.structured_text import structured

#: Names that mean something to a compiler, a library or our own code.
WORDS = sorted(
    {"nan", "round", "pow", "log2", "exit", "int32_t", "selftest", "len", "y", "time", "limit"}
    | {"left", "word", "type", "at", "now", "counts", "since", "drop", "sqrtf"}
    | {"int_to_real", "true", "main", "printf", "index", "y0", "self", "match", "i", "fabs", "by"}
)


@pytest.mark.parametrize("word", [*WORDS, *keyword.kwlist])
def test_what_has_a_meaning_is_renamed(word: str) -> None:
    assert is_reserved(word.lower())
    assert safe_name(word) == f"{word.lower()}_value"


def test_names_stand_for_themselves_where_they_can() -> None:
    for name in ("bean", "damper", "flap", "too_hot", "moved", "temperature", "pressure"):
        assert safe_name(name) == name


def bench_of(names: list[str], bits: int) -> str:
    """Channels, trips and drives with these names, a third each."""
    third = len(names) // 3
    parts = [f"[converter]\nbits = {bits}\nvref = 3.3\n"]
    for i, name in enumerate(names[:third]):
        laws = ('{ law = "line", gain = 0.25, takes = "count" }',
                '{ law = "zones", edges = [9, 50], values = [[0, 1], [1, 0], [1, 1]], '
                'hysteresis = 2, takes = "count" }')[i % 2]  # fmt: skip
        smooth = 'smooth = { kind = "median", over = 3 }\n' if i % 3 else ""
        parts.append(f"[channel.{name}]\ncolumn = 1\ndecimals = 0\n{smooth}laws = [{laws}]\n")
    for i, name in enumerate(names[third : 2 * third]):
        channel, other = names[i % third], names[2 * (i % (third // 2))]
        moves = f', {{ channel = "{other}", rises_by = 2, within = "1 s" }}'
        parts.append(
            f'[trip.{name}]\nany = [{{ channel = "{channel}", above = 1 }}{moves}]\nhold = "1 s"\n'
        )
    for i, name in enumerate(names[2 * third :]):
        source = names[i % (2 * third)]
        parts.append(
            f'[drive.{name}]\nfrom = "{source}"\nmarks = [[0, 0], [2, 99]]\nsafe = 0\nslew = 70\n'
            f'output = "out{i}"\nsafe_when = ["{names[third]}"]\n'
        )
    return "".join(parts)


@soak
@needs_compiler[0]
@needs_compiler[1]
@pytest.mark.parametrize("arith", thinned(["int32", "int16", "float"], 2))
@pytest.mark.parametrize("every", sizes(59, 1))
def test_every_name_compiles(tmp_path: Path, arith: str, every: int) -> None:
    programs = {}
    for bits in {15, *range(8, 17, every)}:
        text = bench_of(WORDS, bits)
        bench = parse_bench(text)
        made = []
        for name, channel in bench.channels.items():
            wide = arith if arith != "int16" or bits < 16 else "int32"
            made.append(export(channel, safe_name(name), wide))  # type: ignore[arg-type]
        found = machines_of(bench, made, None)
        if arith != "float":
            assert not found.notes
        wish = ExportOptions(bench, "0", text_width=8 if arith != "float" else None, selftest=True,
                    machines=found.machines)  # fmt: skip
        header = target_named("c").file(made, wish)
        programs[f"bits_{bits}"] = Printing(header, 'printf("%d\\n", selftest());')
        scope: dict[str, object] = {}
        exec(target_named("python").file(made, wish), scope)
        assert scope["selftest"]() == 0  # type: ignore[operator]
        made_st = structured(
            target_named("st").file(made, ExportOptions(bench, "0", machines=found.machines))
        )
        assert {m.update for m in found.machines} <= set(made_st)
    assert printed_by(programs, tmp_path) == {name: ["0"] for name in programs}


@pytest.mark.parametrize("many", sizes(30, 300))
def test_a_reserved_word_is_no_name_in_any_file(many: int) -> None:
    words = sorted(RESERVED)[:: max(1, len(RESERVED) // many)]
    words = [w for w in words if re.fullmatch(r"[a-z]\w*", w)]
    bench = parse_bench("[converter]\nbits = 8\nvref = 3.3\n" + "".join(
        f"[channel.{w}]\ncolumn = 1\n" for w in words
    ))  # fmt: skip
    made = [export(c, safe_name(n)) for n, c in bench.channels.items()]
    for target in TARGETS:
        text = target_named(target).file(made, ExportOptions(bench, "0"))
        for word in words:
            assert not re.search(rf"(static inline \w+|def|FUNCTION) {word}\b", text), (
                target,
                word,
            )


A = "[channel.a]\ncolumn = 1\n"
DRIVE = "marks = [[0, 0], [1, 1]]\nsafe = 0\n"


def trip_named(name: str) -> str:
    return f"[trip.{name}]\nany = [{{ channel = 'a', above = 1 }}]\n"


CLASHES = [
    (A + "[channel.a_flags]\ncolumn = 2\n", "channel a has a_flags in exported code"),
    ("[channel.a-b]\ncolumn = 1\n[channel.a_b]\ncolumn = 2\n", "channel a-b has a_b in exported"),
    (A + trip_named("flags"), "the column flags is that of every result"),
    (A + trip_named("a"), "channel a has this name already"),
    (A + trip_named("hot") + f"[drive.hot]\nfrom = 'hot'\n{DRIVE}", "trip hot has this name"),
    (A + trip_named("a_V"), "the column a_V is that of channel a"),
    (
        A + trip_named("hot") + f"[drive.hot_update]\nfrom = 'hot'\n{DRIVE}",
        "trip hot has hot_update in exported code",
    ),
]


@pytest.mark.parametrize(("tables", "says"), CLASHES)
def test_one_namespace(tables: str, says: str) -> None:
    with pytest.raises(BenchError, match=re.escape(says)) as caught:
        parse_bench("[converter]\nbits = 8\nvref = 3.3\n" + tables)
    assert len(caught.value.errors) == 1
    assert "name: expected another name" in caught.value.errors[0]


def test_a_renamed_one_is_said(cli: Cli, home: Path) -> None:
    (home / "b.toml").write_text("[converter]\nbits = 8\nvref = 3\n[channel.limit]\ncolumn = 1\n")
    done = cli("export", "limit", "--to", "st", "-b", "b.toml")
    assert done.returncode == 0
    assert "limit: called limit_value in the code" in done.stderr
    assert "FUNCTION limit_value : DINT" in done.stdout


def test_python_objects_are_held_to_it_too() -> None:
    channel = Channel("a", Counts(8) >> Line(2.0, 1.0, unit="V"), 1)
    with pytest.raises(JetRulerError, match="the column a_V is that of channel a already"):
        Bench("x", {"a": channel}, {"a_V": Trip("a_V", (Condition("a", above=1),))})
