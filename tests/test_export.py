"""Firmware: compiled C, the Python module and structured text over every count, against the model
and the ruler; machines against the decisions of the live view."""

from __future__ import annotations

import itertools
import json
import re
import runpy
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jetruler import (
    Bench,
    Channel,
    Counts,
    JetRulerError,
    Law,
    Line,
    ParameterError,
    Reading,
    demo,
    load_bench,
)
from jetruler.bench.load import parse_bench
from jetruler.core.decide.decisions import Decisions
from jetruler.core.firmware.choose import LIBM, Exported, export
from jetruler.core.firmware.flagged import flags_program, threshold
from jetruler.core.firmware.knots import fewest_knots
from jetruler.core.firmware.names import comment, safe_name
from jetruler.core.firmware.program import LARGEST, Model, Program, TooWideError
from jetruler.firmware import c
from jetruler.firmware.assemble import Wish, c_file, python_file
from jetruler.firmware.machines import machines

from .conftest import Run

GCC = shutil.which("gcc")
FLAGS = "-std=c99 -O1 -Wall -Wextra -Wconversion -Werror -fsanitize=undefined -fno-sanitize-recover"
needs_gcc = pytest.mark.skipif(GCC is None, reason="no C compiler: apt-get install gcc")


@pytest.fixture(scope="module")
def roaster(tmp_path_factory: pytest.TempPathFactory) -> Bench:
    """The demo's bench."""
    path = tmp_path_factory.mktemp("b") / "bench.toml"
    path.write_bytes(demo.read("bench.toml"))
    return load_bench(path)


def compiled(folder: Path, header: str, main: str) -> str:
    """What a program says that includes the header."""
    (folder / "made.h").write_text(header)
    text = f'#include "made.h"\n#include <stdio.h>\nint main(void)\n{{\n{main}\nreturn 0;\n}}\n'
    (folder / "main.c").write_text(text)
    command = [str(GCC), *FLAGS.split(), "main.c", "-o", "main", "-lm"]
    built = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert not built.returncode, built.stderr[:3000]
    return subprocess.run([folder / "main"], capture_output=True, text=True, check=True).stdout


def random_channels() -> list[Channel]:
    """Some dozens of chains of all kinds."""
    random = np.random.RandomState(9)
    tails: list[Callable[[Callable[[float, float], float]], str]] = [
        lambda r: f'{{ law = "divider", known = {r(1e3, 2e4):.0f}, sensor = "lower" }}, '
        f'{{ law = "beta", r0 = {r(5e3, 1e5):.0f}, beta = {r(3000, 4500):.0f} }}',
        lambda r: f'{{ law = "line", marks = [[{r(0, 300):.0f}, {r(-50, 50):.2f}], '
        f'[{r(500, 900):.0f}, {r(60, 300):.2f}]] }}, {{ law = "clamp", low = 0, high = 100 }}',
        lambda r: f'{{ law = "line", gain = {r(-0.4, -0.05):.4f}, offset = {r(-5, 90):.2f} }}',
        lambda r: f'{{ law = "polynomial", coefficients = [{r(-5, 5):.3f}, {r(0.05, 0.1):.4f}, '
        f'{r(-4e-5, 4e-5):.3g}], takes = "count" }}',
        lambda r: f'{{ law = "formula", expression = "a * sqrt(x + {r(1, 9):.1f})", '
        f"a = {r(1, 5):.2f} }}",
        lambda r: '{ law = "zones", edges = [100, 350, 800], values = ["a", "b", "c", "d"] }',
    ]  # fmt: skip
    found = []
    for i in range(36):
        tail = tails[i % len(tails)](lambda a, b: float(random.uniform(a, b)))
        bits = int(random.choice([8, 10, 12]))
        bench = parse_bench(
            f"[converter]\nbits = {bits}\nvref = 3.3\n[channel.c{i}]\ncolumn = 1\nlaws = [{tail}]\n"
        )
        found.append(bench[f"c{i}"])
    return found


@needs_gcc
def test_compiled_code_is_the_model_over_every_count(tmp_path: Path, roaster: Bench) -> None:
    random = np.random.RandomState(10)
    made: list[Exported] = []
    refused: list[str] = []
    for channel in [*roaster.channels.values(), *random_channels()]:
        labels = channel.ruler.described(0.0) is not None
        for arith in ("int32", "int16", "float"):
            scale = 1 if labels else int(random.choice([1, 10]))
            within = None if labels else float(random.choice([1.0, 2.5])) / scale
            try:
                made.append(export(channel, f"f{len(made)}_{channel.name}", arith, scale, within))
            except JetRulerError as error:
                refused.append(f"{arith}: {error}")
    assert len(made) > 100
    assert all(text.startswith("int16") or "scale" in text for text in refused), refused
    bench = Bench("All", {e.name: e.channel for e in made})
    main = []
    for e in made:
        form = ("%.9g", "(double)") if e.program.arith == "float" else ("%ld", "(long)")
        low, high = int(e.wanted.counts[0]), int(e.wanted.counts[-1])
        takes = "int16_t" if e.program.arith == "int16" else "int32_t"
        call = f'printf("{form[0]} ", {form[1]}{e.name}(({takes})n));'
        main += [f"for (int32_t n = {low - 2}; n <= {high + 2}; n++) {{ {call} }}", 'puts("");']
        call = f'printf("%d ", (int){e.name}_flags(n));'
        main += [f"for (int32_t n = {low}; n <= {high}; n++) {{ {call} }}", 'puts("");']
    main.append('printf("%d\\n", selftest());')
    header = c_file(made, Wish(bench, "0", selftest=True), "ALL")
    lines = compiled(tmp_path, header, "\n".join(main)).splitlines()
    assert lines[-1] == "0"
    for e, line, flags in zip(made, lines[0::2], lines[1::2], strict=False):
        got = np.array(line.split(), dtype=np.float64)
        assert got[:2].tolist() == got[-2:].tolist() or np.isnan(got[[0, 1, -1, -2]]).all()
        got, values = got[2:-2], e.wanted.values
        model = Model(e.program).run(e.wanted.counts)
        if e.program.arith == "float":
            margin = LIBM * float(np.nanmax(np.abs(values)))  # what the proof has added
            assert np.allclose(got, model, rtol=0, atol=margin, equal_nan=True), e.channel
            none, scale = np.isnan(got), 1
        else:
            assert np.array_equal(got, model), e.kind
            none, scale = got == -LARGEST[e.program.arith] - 1, e.wanted.scale
        assert np.array_equal(none, np.isnan(values))
        worst = float(np.max(np.abs(got[~none] / scale - values[~none])))
        assert worst <= e.proof.within * (1 + 1e-9) + 1e-9
        assert worst <= e.proof.worst + 1e-9
        assert flags.split() == [str(f) for f in e.wanted.flags]


def test_the_python_module_over_every_count(run: Run, home: Path, roaster: Bench) -> None:
    for arith in ("int32", "float"):
        done = run(
            "export", "--all", "--to", "python", "--arith", arith, "--selftest", "-o", "made.py"
        )
        assert done.returncode == 0, done.stderr
        made: dict[str, Any] = runpy.run_path(str(home / "made.py"))
        assert made["selftest"]() == 0
        for channel in roaster.channels.values():
            values = channel.ruler(np.arange(2**channel.ruler.converter.bits))  # type: ignore[union-attr]
            got = [made[channel.name](n) for n in range(values.size)]
            scale = made.get(f"{channel.name.upper()}_SCALE", 1)
            assert [y is None for y in got] == np.isnan(values).tolist()
            off = max(
                abs(y / scale - v)
                for y, v in zip(got, values.tolist(), strict=True)
                if y is not None
            )
            assert off <= (1e-9 if arith == "float" else 1.0 / scale + 1e-9)


def structured(text: str) -> dict[str, Callable[..., Any]]:
    """A small evaluator of the structured text in use: each line becomes one of Python."""
    out, depth, names = [], 0, set(re.findall(r"FUNCTION (\w+)", text))
    text = re.sub(r"\(\*.*?\*\)", "", text)
    tables = re.findall(r"(\w+) : ARRAY\[0\.\.\d+\] OF \w+ := \[(.*?)\];", text, re.DOTALL)
    out += [f"{name} = [{' '.join(cells.split())}]" for name, cells in tables]
    text = re.sub(r"VAR(_INPUT| CONSTANT)?\n.*?END_VAR\n", "", text, flags=re.DOTALL)
    current = ""
    for line in text.splitlines():
        line = line.strip().rstrip(";")
        line = re.sub(r"(?<![<>:=])=(?!=)", "==", line).replace("<>", "!=").replace(":=", "=")
        line = line.replace(" OR ", " or ").replace(" AND ", " and ")
        line = re.sub(r"\b(LN|EXP|SQRT|ABS|DINT_TO_REAL)\(", lambda m: f"_{m[1]}(", line)
        if found := re.match(r"FUNCTION (\w+)", line):
            current = found[1]
            takes = "n, was=0" if "_from_" in current else "n"
            out, depth = [*out, f"def {current}({takes}):"], 1
        elif line.startswith(("IF ", "WHILE ")):
            word, condition = line.split(" ", 1)
            out.append("    " * depth + f"{word.lower()} {condition.rsplit(' ', 1)[0]}:")
            depth += 1
        elif line == "ELSE":
            out.append("    " * (depth - 1) + "else:")
        elif line in ("END_IF", "END_WHILE"):
            depth -= 1
        elif line in ("RETURN", "END_FUNCTION"):
            out.append("    " * depth + f"return {current}__")
        elif "=" in line and current:
            line = re.sub(rf"^{current} =", f"{current}__ =", line)
            integer = ".0" not in line and "E" not in line and "_LN" not in line
            out.append("    " * depth + (line.replace(" / ", " // ") if integer else line))
    del names
    scope: dict[str, Any] = {"_LN": np.log, "_DINT_TO_REAL": float, "_ABS": abs, "_SQRT": np.sqrt}
    exec("\n".join(out), scope)  # our own text
    return scope


def test_structured_text(run: Run, roaster: Bench) -> None:
    done = run("export", "--all", "--to", "st", "--threshold", "bean=225")
    assert done.returncode == 0, done.stderr
    assert "smoothing, trips and drives are written for C and Python only" in done.stderr
    made = structured(done.stdout)
    for name, channel in roaster.channels.items():
        e = export(channel, name)
        every = e.wanted.counts[:: 1 if e.wanted.counts.size < 5000 else 7]
        assert [made[name](int(n)) for n in every] == Model(e.program).run(every).tolist()
        flags = Model(flags_program(e.wanted, name)).run(every).tolist()
        assert [made[f"{name}_flags"](int(n)) for n in every] == flags
    assert [made["bean_from_225"](n, 7) for n in (386, 387, 416, 500)] == [1, 7, 0, 0]
    floats = structured(run("export", "bean", "--to", "st", "--arith", "float").stdout)
    values = roaster["bean"].ruler(np.arange(1, 4095))
    assert np.allclose([floats["bean"](n) for n in range(1, 4095)], values, atol=1e-3)
    assert floats["bean"](0) == -1e30


MACHINES = """
[converter]
bits = 10
[channel.a]
column = 1
decimals = 0
laws = [{ law = "counts", bits = 10 }]
smooth = { kind = "median", over = 3 }
[channel.b]
column = 2
decimals = 0
laws = [{ law = "counts", bits = 10 }, { law = "expect", low = 50, high = 900 }]
smooth = { kind = "mean", over = 4 }
[trip.high]
all = [{ channel = "a", above = 600, release = 500 }, { channel = "b", below = 700 }]
hold = "0.3 s"
[trip.moved]
any = [
  { channel = "b", changes_by = 200, within = "1 s" },
  { channel = "a", falls_by = 300, within = "0.5 s" },
]
stay = "0.7 s"
[trip.lost]
any = [{ channel = "b", flagged = true }]
[drive.flap]
from = "a"
range = "pulse"
marks = [[100, 2000], [500, 1200], [900, 1000]]
dead_band = 20
off = 1000
slew = 700
safe = 1500
safe_when = ["lost"]
[drive.horn]
from = "high"
safe = 0
"""


def stream() -> tuple[list[int], np.ndarray[Any, Any]]:
    """Times in ms and counts of both channels: drifting, jumping, at the rails at times."""
    random = np.random.RandomState(12)
    walk = np.cumsum(random.choice([-60, -5, 0, 5, 60], (600, 2)), axis=0) + 500
    walk[::97] = 1023
    return np.cumsum(random.choice([50, 100, 150], 600)).tolist(), np.clip(walk, 0, 1023)


def expected(
    bench: Bench, values: np.ndarray[Any, Any], flags: np.ndarray[Any, Any], times: list[int]
) -> Any:
    """What the decisions of the live view are on these values."""
    readings = {
        name: Reading(values[:, i], flags[:, i].astype(np.uint8)) for i, name in enumerate("ab")
    }
    return Decisions(bench).add(np.array(times) / 1000, readings)


@pytest.mark.parametrize("kind", ["mean", "exponential"])
@pytest.mark.parametrize("target", ["c", "python"])
def test_machines_behave_as_the_live_view(tmp_path: Path, target: str, kind: str) -> None:
    if target == "c" and GCC is None:
        pytest.skip("no C compiler: apt-get install gcc")
    bench = parse_bench(MACHINES.replace('kind = "mean"', f'kind = "{kind}"'))
    made = [export(channel, name) for name, channel in bench.channels.items()]
    texts, notes = machines(bench, made, target, None)
    assert not notes
    times, counts = stream()
    wish = Wish(bench, "0", machines=texts)
    if target == "c":
        cells = ", ".join(
            f"{{{t}, {x}, {y}}}" for t, (x, y) in zip(times, counts.tolist(), strict=True)
        )
        main = f"""
static const int32_t in[][3] = {{{cells}}};
static struct a_smoothing sa; static struct b_smoothing sb;
static struct high high; static struct moved moved; static struct lost lost;
static struct flap flap; static struct horn horn;
for (int i = 0; i < {len(times)}; i++) {{
    uint32_t now = (uint32_t)in[i][0];
    int32_t a = a_smoothed(&sa, in[i][1]), b = b_smoothed(&sb, in[i][2]);
    int32_t fa = a_flags(in[i][1]), fb = b_flags(in[i][2]);
    uint8_t h = high_update(&high, now, a, fa, b, fb), m = moved_update(&moved, now, b, fb, a, fa);
    uint8_t l = lost_update(&lost, now, b, fb);
    int32_t f = flap_update(&flap, now, a, (uint8_t)(l || (fa & 115)));
    int32_t o = horn_update(&horn, now, h, (uint8_t)((fa & 115) || (fb & 115)));
    printf("%ld %ld %ld %ld ", (long)a, (long)b, (long)fa, (long)fb);
    printf("%d %d %d %ld %ld\\n", h, m, l, (long)f, (long)o);
}}"""
        out = compiled(tmp_path, c_file(made, wish, "M"), main)
        rows = np.array([line.split() for line in out.splitlines()], dtype=np.int64)
    else:
        (tmp_path / "m.py").write_text(python_file(made, wish))
        m = runpy.run_path(str(tmp_path / "m.py"))
        sa, sb = m["ASmoothing"](), m["BSmoothing"]()
        high, moved, lost, flap, horn = (m[n]() for n in ("High", "Moved", "Lost", "Flap", "Horn"))
        got = []
        for now, (x, y) in zip(times, counts.tolist(), strict=True):
            a, b, fa, fb = sa.update(x), sb.update(y), m["a_flags"](x), m["b_flags"](y)
            h, v, lo = (
                high.update(now, a, fa, b, fb),
                moved.update(now, b, fb, a, fa),
                lost.update(now, b, fb),
            )
            f = flap.update(now, a, lo or fa & 115)
            o = horn.update(now, int(h), fa & 115 or fb & 115)
            none = -(2**31)
            got.append([none if a is None else a, none if b is None else b, fa, fb, h, v, lo, f, o])
        rows = np.array(got, dtype=np.int64)
    values = np.where(rows[:, :2] == -(2**31), np.nan, rows[:, :2])
    # Smoothed as the live view smooths, to the nearest count.
    from jetruler.core.follow import Follower

    for i, name in enumerate("ab"):
        live = Follower(bench[name], bench[name].smooth).add(counts[:, i])[1].value
        both = ~np.isnan(live)
        assert np.array_equal(both, ~np.isnan(values[:, i]))
        most = 0.5 if kind == "mean" or name == "a" else 1.0  # a 256th of a count is lost a step
        assert np.max(np.abs(live[both] - values[both, i])) <= most
    found = expected(bench, values, rows[:, 2:4], times)
    for i, name in enumerate(("high", "moved", "lost")):
        assert np.array_equal(rows[:, 4 + i], found.trips[name].astype(int)), name
        assert 10 < rows[:, 4 + i].sum() < 590
    assert np.max(np.abs(rows[:, 7] - found.drives["flap"])) <= 1
    assert np.array_equal(rows[:, 8], found.drives["horn"])


@needs_gcc
@pytest.mark.parametrize("width", [6, 9])
def test_text_for_displays(tmp_path: Path, roaster: Bench, width: int) -> None:
    made = [export(roaster["bean"], "bean"), export(roaster["hopper"], "hopper")]
    wish = Wish(roaster, "0", text_width=width)
    values = [0, 5, -5, 99, 1208, -1208, 12345678, -(2**31), 2**31 - 1, -99999]
    main = f"char b[{width + 1}]; "
    for name in ("bean", "hopper"):
        for v in values:
            literal = "INT32_MIN" if v == -(2**31) else str(v)
            main += f"{name}_text({literal}, b); puts(b); "
    got = compiled(tmp_path, c_file(made, wish, "T"), main).splitlines()
    (tmp_path / "t.py").write_text(python_file(made, wish))
    module = runpy.run_path(str(tmp_path / "t.py"))
    said = []
    for name, unit, places in (("bean", "C", 1), ("hopper", "g", 0)):
        for v in values:
            text = f"{v / 10**places:.{places}f}{unit}"
            fits = len(text) <= width and v != -(2**31)
            said.append(text.rjust(width) if fits else "-" * width)
            assert module[f"{name}_text"](None if v == -(2**31) else v) == said[-1]
    assert got == said


def test_the_fewest_knots() -> None:
    """Against every choice of knots on a small curve."""
    from itertools import combinations, product

    x = np.arange(15)
    target = 40.0 / (x + 1)
    low, high = np.ceil(target - 1), np.floor(target + 1)

    def fits(knots: list[tuple[int, int]]) -> bool:
        for (a, p), (b, q) in itertools.pairwise(knots):
            for i in range(a, b + 1):
                k, w, d = i - a, b - a, q - p
                y = p - (k * -d + w // 2) // w if d < 0 else p + (k * d + w // 2) // w
                if not low[i] <= y <= high[i]:
                    return False
        return True

    found = fewest_knots(low, high, target, 2**31)
    assert found is not None
    assert fits(found)
    heights = [range(int(a), int(b) + 1) for a, b in zip(low, high, strict=True)]
    for inner in combinations(range(1, 14), len(found) - 3):  # one knot fewer: there is none
        places = (0, *inner, 14)
        assert not any(
            fits(list(zip(places, ys, strict=True)))
            for ys in product(*(heights[p] for p in places))
        )


def test_the_model_refuses_what_overflows() -> None:
    counts = np.arange(1024)
    with pytest.raises(TooWideError, match="33759 does not fit int16"):
        Model(Program("f", "return n * 33 // 8", {}, "int16")).run(counts)
    with pytest.raises(TooWideError, match="negative"):
        Model(Program("f", "return (n - 5) >> 2", {}, "int32")).run(counts)
    assert Model(Program("f", "return (n - 5) // 2", {}, "int32")).run(counts)[:3].tolist() == [
        -2,
        -2,
        -1,
    ]


@pytest.mark.parametrize(
    ("args", "says"),
    [
        (["bean", "--within", "0"], "within: found 0.0; a bound above 0"),
        (["bean", "--within", "0.1 V"], "--within 0.1 V: bean is in °C"),
        (["bean", "--within", "0.01"], "finer than half an output step (0.1 at scale 10)"),
        (["bean", "--scale", "100", "--arith", "int16"], "int16 does not hold; --scale 17 fits"),
        (["bean", "--scale", "0"], "scale: found 0"),
        (["hopper", "--arith", "int16"], "counts go up to 65535, which int16 does not hold"),
        (["bean", "--arith", "float", "--within", "1e-9"], "floats of this target are off by"),
        (["bean", "--threshold", "bean=9999"], "no count passes 9999 °C"),
        (["bean", "--threshold", "bean"], "bean=225 or bean=225/220 is right"),
        (["bean", "--threshold", "bean=220/225"], "the release point 225 is above 220"),
        (["bean", "--all"], "name one or more channels, or --all"),
        (["been"], "the bench has no channel 'been'"),
        (["bean", "--json"], "cannot share stdout"),
        (["bean", "--text", "8", "--arith", "float"], "--text: whole numbers in C or Python"),
        (["bean", "--interval", "0"], "--interval 0.0: seconds above 0"),
        (["tray", "--scale", "10"], "tray has labelled zones: 1 is right"),
    ],
)
def test_one_sentence(run: Run, home: Path, args: list[str], says: str) -> None:
    done = run("export", *args, "--to", "c")
    assert (done.returncode, done.stdout) == (2, "")
    assert says in done.stderr
    assert len(done.stderr.splitlines()) == 1


def test_same_input_same_bytes_and_json(run: Run, home: Path) -> None:
    args = [
        "export",
        "bean",
        "--to",
        "c",
        "--inside-limits",
        "--within",
        "0.5 K",
        "--threshold",
        "bean=225",
    ]
    once = run(*args, "-o", "bean.h", "--json")
    first = (home / "bean.h").read_bytes()
    (report,) = json.loads(once.stdout)
    assert report["proof"]["worst"] <= 0.5
    assert report["table_bytes"] < 80
    assert report["proof"]["counts"] == 4096
    assert run(*args).stdout.encode() == first
    assert b"#define BEAN_FROM_225_ON 386" in first  # as `explain bean --for 225` says


class Wave(Law):
    """A user's own law, without a form for firmware."""

    name = "wave"

    def forward(self, x: Any) -> Any:
        return np.sin(x / 300) * 50

    def inverse(self, y: Any) -> Any:
        return y

    def slope(self, x: Any) -> Any:
        return x

    def formula(self, x: float) -> str:
        return "wave"

    def inverse_formula(self, y: float) -> str:
        return "wave"


def test_a_law_without_a_form_becomes_a_table() -> None:
    e = export(Channel("w", Counts(bits=10) >> Wave(), 1), "w", "float", within=0.3)
    assert "knots" in e.kind
    assert "the table form is used" in e.notes[0]
    assert e.proof.holds
    assert e.proof.monotone == ""
    with pytest.raises(JetRulerError, match="it turns back"):
        threshold(Bench("", {}), e.channel, "w", 20.0, None)


@pytest.mark.parametrize("name", ["Größe", "int", "2nd", "a-b", "x", "selbst test"])
def test_names_are_safe(name: str) -> None:
    assert re.fullmatch(r"[a-z][a-z0-9_]+", safe_name(name))
    assert safe_name(name) not in ("int", "x")


def test_names_and_comments_smuggle_nothing(run: Run, home: Path) -> None:
    text = (
        "[converter]\nbits = 8\nvref = 3.3\n[channel.a-b]\ncolumn = 1\n[channel.a_b]\ncolumn = 2\n"
    )
    (home / "b.toml").write_text(text)
    done = run("export", "a-b", "--to", "c", "-b", "b.toml")
    assert done.returncode == 2
    assert "'a-b' becomes a_b in firmware too" in done.stderr
    evil = "x */ int evil; /* (* *) y := 1; ??/ \\\n# newline"
    for ends in ("*/", "/*", "(*", "*)", "\n", "\\", "??"):
        assert ends not in comment(evil)
    with pytest.raises(ParameterError, match="16 bits"):
        export(Channel("a", Counts(bits=24) >> Line(2, 1), 1), "a")


def test_speed_is_not_absurd(roaster: Bench) -> None:
    """Not a timed test: only that nothing is done count by count."""
    start = time.perf_counter()
    export(roaster["hopper"], "hopper")
    assert time.perf_counter() - start < 30


def test_literals() -> None:
    lines = c.function(Program("f", "return -2147483648", {}, "int32"))
    assert "2147483647 - 1" in "".join(lines) or "-2147483648" in "".join(lines)
