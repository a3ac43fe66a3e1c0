"""Programs as C, compiled in one batch: over every count against the model and the ruler."""

from __future__ import annotations

import runpy
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import pytest

from jetruler import Bench, Channel, JetRulerError
from jetruler.benchfile.load import parse_bench
from jetruler.core.firmware.exported import Exported
from jetruler.core.firmware.floats import LIBM
from jetruler.core.firmware.program import LARGEST, ProgramModel
from jetruler.core.firmware.selection import export
from jetruler.targets import target_named
from jetruler.targets.target import ExportOptions
from tests.helpers.compiled import Printing, needs_compiler, printed_by
from tests.helpers.sizes import sizes

pytestmark = needs_compiler


@dataclass(frozen=True)
class Program:
    """What was exported, as a header, and a function body that calls it and prints."""

    made: list[Exported]
    header: str
    body: str


@pytest.fixture(scope="session", params=sizes(3, 36), ids="{} chains".format)
def programs(request: pytest.FixtureRequest, roaster: Bench) -> dict[str, Program]:
    """All that is compiled."""
    twin = "bean2"  # has the laws of bean
    channels = [c for c in roaster.channels.values() if c.name != twin]
    found = {"every_count": over_every_count(channels + random_channels(request.param))}
    shown = [export(roaster[name], name) for name in ("bean", "hopper")]
    found |= {f"text_{width}": with_texts(roaster, shown, width) for width in (6, 9)}
    return found


@pytest.fixture(scope="session")
def printed(
    programs: dict[str, Program], tmp_path_factory: pytest.TempPathFactory
) -> dict[str, list[str]]:
    """The lines that each program prints; all are compiled at once."""
    each = {name: Printing(p.header, p.body) for name, p in programs.items()}
    return printed_by(each, tmp_path_factory.mktemp("c"))


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
        call = f'printf("%d ", (int){e.name}_flags(({takes})n));'
        main += [f"for (int32_t n = {low}; n <= {high}; n++) {{ {call} }}", 'puts("");']
    main.append('printf("%d\\n", selftest());')
    header = target_named("c").file(made, ExportOptions(bench, "0", selftest=True))
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


TEXTS = [0, 5, -5, 99, 1208, -1208, 12345678, -(2**31), 2**31 - 1, -99999]


def with_texts(roaster: Bench, made: list[Exported], width: int) -> Program:
    """Values as the texts of a display."""
    wish = ExportOptions(roaster, "0", text_width=width)
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
    made, wish = programs[f"text_{width}"].made, ExportOptions(roaster, "0", text_width=width)
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
