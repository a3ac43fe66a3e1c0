"""Programs as C, compiled in one batch: over every count against the model and the ruler, and their
machines, those of the Python module too, against the decisions of the live view."""

from __future__ import annotations

import runpy
import shutil
import subprocess
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from jetruler import Bench, Channel, JetRulerError, Reading
from jetruler.benchfile.load import parse_bench
from jetruler.core.decide.channel_reader import ChannelReader
from jetruler.core.decide.decisions import Decisions
from jetruler.core.firmware.program import LARGEST, ProgramModel
from jetruler.core.firmware.selection import LIBM, Exported, export
from jetruler.targets.machines import machines
from jetruler.targets.register import target_named
from jetruler.targets.target import Wish

from .sizes import sizes

GCC = shutil.which("gcc")
FLAGS = "-std=c99 -Wall -Wextra -Wconversion -Werror -fsanitize=undefined -fno-sanitize-recover"

pytestmark = [
    pytest.mark.skipif(GCC is None, reason="no C compiler: apt-get install gcc"),
    pytest.mark.xdist_group("compiled"),
]


@dataclass(frozen=True)
class Program:
    """What was exported, as a header, and a function body that calls it and prints."""

    made: list[Exported]
    header: str
    body: str


@pytest.fixture(scope="session", params=sizes(6, 36), ids="{} chains".format)
def programs(request: pytest.FixtureRequest, roaster: Bench) -> dict[str, Program]:
    """All that is compiled."""
    twin = "bean2"  # has the laws of bean
    channels = [c for c in roaster.channels.values() if c.name != twin]
    found = {"every_count": over_every_count(channels + random_channels(request.param))}
    found |= {f"machines_{kind}": with_machines(kind) for kind in ("mean", "exponential")}
    shown = [export(roaster[name], name) for name in ("bean", "hopper")]
    found |= {f"text_{width}": with_texts(roaster, shown, width) for width in (6, 9)}
    return found


@pytest.fixture(scope="session")
def printed(
    programs: dict[str, Program], tmp_path_factory: pytest.TempPathFactory
) -> dict[str, list[str]]:
    """The lines that each program prints; all are compiled at once."""
    folder = tmp_path_factory.mktemp("c")
    calls = ""
    for name, program in programs.items():
        (folder / f"{name}.h").write_text(program.header)
        (folder / f"{name}.c").write_text(
            f'#include "{name}.h"\n#include <stdio.h>\n'
            f"void run_{name}(void);\nvoid run_{name}(void)\n{{\n{program.body}\n}}\n"
        )
        calls += f"void run_{name}(void);\n"
    calls += "int main(void)\n{\n"
    for name in programs:
        calls += f'    run_{name}();\n    puts("= {name}");\n'
    (folder / "main.c").write_text(f"#include <stdio.h>\n{calls}    return 0;\n}}\n")
    sources = [f"{name}.c" for name in (*programs, "main")]
    command = [str(GCC), *FLAGS.split(), *sources, "-o", "main", "-lm"]
    built = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert not built.returncode, built.stderr[:3000]
    said = subprocess.run([folder / "main"], capture_output=True, text=True, check=True).stdout
    found: dict[str, list[str]] = {}
    for name in programs:
        mine, said = said.split(f"= {name}\n", 1)
        found[name] = mine.splitlines()
    return found


def random_channels(many: int) -> list[Channel]:
    """Chains of all kinds."""
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
    for i in range(many):
        tail = tails[i % len(tails)](lambda a, b: float(random.uniform(a, b)))
        bits = int(random.choice([8, 10, 12]))
        bench = parse_bench(
            f"[converter]\nbits = {bits}\nvref = 3.3\n[channel.c{i}]\ncolumn = 1\nlaws = [{tail}]\n"
        )
        found.append(bench[f"c{i}"])
    return found


def over_every_count(channels: list[Channel]) -> Program:
    """Each channel in each arithmetic, at every count and two beyond either end."""
    random = np.random.RandomState(10)
    made: list[Exported] = []
    refused: list[str] = []
    for channel in channels:
        labels = channel.ruler.label(0.0) is not None
        for arith in ("int32", "int16", "float"):
            scale = 1 if labels else int(random.choice([1, 10]))
            within = None if labels else float(random.choice([1.0, 2.5])) / scale
            try:
                made.append(export(channel, f"f{len(made)}_{channel.name}", arith, scale, within))
            except JetRulerError as error:
                refused.append(f"{arith}: {error}")
    assert len(made) > 2.5 * len(channels)
    assert all(text.startswith("int16") or "scale" in text for text in refused), refused
    bench = Bench("All", {e.name: replace(e.channel, name=e.name) for e in made})
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
    header = target_named("c").file(made, Wish(bench, "0", selftest=True))
    return Program(made, header, "\n".join(main))


def test_compiled_code_is_the_model_over_every_count(
    programs: dict[str, Program], printed: dict[str, list[str]]
) -> None:
    made, lines = programs["every_count"].made, printed["every_count"]
    assert lines[-1] == "0"
    for e, line, flags in zip(made, lines[0::2], lines[1::2], strict=False):
        got = np.array(line.split(), dtype=np.float64)
        assert got[:2].tolist() == got[-2:].tolist() or np.isnan(got[[0, 1, -1, -2]]).all()
        got, values = got[2:-2], e.wanted.values
        model = ProgramModel(e.program).run(e.wanted.counts)
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


def machine_bench(kind: str) -> Bench:
    return parse_bench(MACHINES.replace('kind = "mean"', f'kind = "{kind}"'))


def machine_parts(kind: str, target: str) -> tuple[list[Exported], Wish]:
    bench = machine_bench(kind)
    made = [export(channel, name) for name, channel in bench.channels.items()]
    texts, notes = machines(bench, made, target_named(target), None)
    assert not notes
    return made, Wish(bench, "0", machines=texts)


def with_machines(kind: str) -> Program:
    """Smoothing, trips and drives over a stream; prints what each sample makes of them."""
    made, wish = machine_parts(kind, "c")
    times, counts = stream()
    cells = ", ".join(
        f"{{{t}, {x}, {y}}}" for t, (x, y) in zip(times, counts.tolist(), strict=True)
    )
    body = f"""
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
    return Program(made, target_named("c").file(made, wish), body)


def python_machines(kind: str, path: Path) -> Any:
    """The same by the Python module, a row a sample."""
    made, wish = machine_parts(kind, "python")
    times, counts = stream()
    path.write_text(target_named("python").file(made, wish))
    m = runpy.run_path(str(path))
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
    return np.array(got, dtype=np.int64)


@pytest.mark.parametrize("kind", ["mean", "exponential"])
@pytest.mark.parametrize("target", ["c", "python"])
def test_machines_behave_as_the_live_view(
    tmp_path: Path, printed: dict[str, list[str]], target: str, kind: str
) -> None:
    if target == "c":
        lines = printed[f"machines_{kind}"]
        rows = np.array([line.split() for line in lines], dtype=np.int64)
    else:
        rows = python_machines(kind, tmp_path / "m.py")
    bench = machine_bench(kind)
    times, counts = stream()
    values = np.where(rows[:, :2] == -(2**31), np.nan, rows[:, :2])
    # Smoothed as the live view smooths, to the nearest count.
    for i, name in enumerate("ab"):
        live = ChannelReader(bench[name], bench[name].smooth).add(counts[:, i])[1].value
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


TEXTS = [0, 5, -5, 99, 1208, -1208, 12345678, -(2**31), 2**31 - 1, -99999]


def with_texts(roaster: Bench, made: list[Exported], width: int) -> Program:
    """Values as the texts of a display."""
    wish = Wish(roaster, "0", text_width=width)
    body = f"char b[{width + 1}]; "
    for name in ("bean", "hopper"):
        for v in TEXTS:
            literal = "INT32_MIN" if v == -(2**31) else str(v)
            body += f"{name}_text({literal}, b); puts(b); "
    return Program(made, target_named("c").file(made, wish), body)


@pytest.mark.parametrize("width", [6, 9])
def test_text_for_displays(
    tmp_path: Path,
    roaster: Bench,
    programs: dict[str, Program],
    printed: dict[str, list[str]],
    width: int,
) -> None:
    made, wish = programs[f"text_{width}"].made, Wish(roaster, "0", text_width=width)
    (tmp_path / "t.py").write_text(target_named("python").file(made, wish))
    module = runpy.run_path(str(tmp_path / "t.py"))
    said = []
    for name, unit, places in (("bean", "C", 1), ("hopper", "g", 0)):
        for v in TEXTS:
            text = f"{v / 10**places:.{places}f}{unit}"
            fits = len(text) <= width and v != -(2**31)
            said.append(text.rjust(width) if fits else "-" * width)
            assert module[f"{name}_text"](None if v == -(2**31) else v) == said[-1]
    assert printed[f"text_{width}"] == said
