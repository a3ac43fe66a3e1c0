"""The demo, the examples, the pictures, the public names and the documents."""

from __future__ import annotations

import re
import runpy
import subprocess
import sys
import tomllib
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler
from jetruler import Adc, Channel, Clamp, Counts, Line, demo, load_bench
from jetruler.core.laws import LAWS, _own_laws
from jetruler.demo import STEPS
from jetruler.demo.generate import MADE
from jetruler.show.draw_ruler import draw_curve, draw_ruler, draw_slope, draw_stages
from jetruler.show.style import new_figure, rendered
from jetruler.show.ticks import round_values, true_ticks
from tests.conftest import Cli
from tests.helpers.command import Done
from tests.helpers.public import MODULES, PUBLIC
from tests.helpers.sizes import few, soak

ROOT = Path(__file__).parents[2]


def test_the_bundled_data_is_what_the_generators_make() -> None:
    for name, make in MADE.items():
        assert make().encode() == demo.read(name), name


def steps() -> Iterator[Any]:
    """Pictures, draws and proofs take longest; each has tests of its own."""
    for number, step in enumerate(STEPS):
        is_slow = re.match("draw|report|export|live|choose|.*--uncertainty", step.command)
        marks = [soak] if is_slow else []
        yield pytest.param(number, id=step.command, marks=marks)


@pytest.mark.parametrize("number", steps())
def test_each_step_of_the_tour(
    cli: Cli, home: Path, monkeypatch: pytest.MonkeyPatch, number: int
) -> None:
    chapter = demo.Chapter("one", "a single step", (STEPS[number],))
    monkeypatch.setattr("jetruler.cli.guide.CHAPTERS", (chapter,))
    step = STEPS[number]
    done = cli("demo", "-o", "tour")
    assert done.returncode == 0, done.stderr
    assert f"$ jetruler {step.command}" in done.stdout
    assert all(f"# {line}" in done.stdout for line in step.shows.splitlines())
    assert "step 1 of 1 done" in done.stderr
    made = {p.name for p in (home / "tour").iterdir()} - set(demo.FILES)
    assert bool(made) == any(word in step.command for word in (" -o ", "draw ", "live ", "report "))
    for name in made:
        assert name in done.stdout
    assert cli("demo", "-o", "tour").returncode == 2  # it exists already


@soak
def test_the_whole_tour(cli: Cli, home: Path) -> None:
    done = cli("demo", "-o", "tour")
    assert done.returncode == 0, done.stderr
    made = sorted(p.name for p in (home / "tour").iterdir())
    for name in made:
        assert name in done.stdout, f"the tour does not say what {name} shows"
    assert {"bench.toml", "roast.csv", "out.csv", "ruler-damper.png"} <= set(made)
    steps = re.findall(r"step (\d+) of (\d+) done", done.stderr)
    assert steps == [(str(i + 1), str(len(STEPS))) for i in range(len(STEPS))]


def test_the_tour_by_chapters(cli: Cli, home: Path) -> None:
    """One after the other into one folder, unless a file of the demo was changed there."""
    listed = cli("demo", "--list").stdout
    assert [line.split()[0] for line in listed.splitlines()[1:]] == [c.name for c in demo.CHAPTERS]
    for words, made in (
        (["--files"], "store.toml"),
        (["convert", "trips"], "decided.csv"),
        (["compare"], "compare-bean-bean2.png"),
    ):
        done = cli("demo", *words, "-o", "part")
        assert done.returncode == 0, done.stderr
        assert f"The files are in {home / 'part'}. Next:\n  cd part\n  jetruler " in done.stdout
        assert (home / "part" / made).exists()
    (home / "part" / "bench.toml").write_text("# mine")
    refused = cli("demo", "convert", "-o", "part")
    assert refused.returncode == 2
    assert (home / "part" / "bench.toml").read_text() == "# mine"


def test_help_shows_every_page_and_law(cli: Cli) -> None:
    listed = cli("help").stdout
    for page in (ROOT / "docs").glob("*.md"):
        assert f"\n  {page.stem} " in listed
        shown = cli("help", page.stem)
        assert shown.returncode == 0
        assert shown.stdout.startswith("# ")
        assert "](" not in re.sub(r"```.*?```|`[^`]*`", "", shown.stdout, flags=re.S), page.stem
        for other in re.findall(r"jetruler help ([\w-]+)", shown.stdout):
            assert other in ("PAGE", "LAW") or f"\n  {other} " in listed or other in LAWS, other
    for law in LAWS:
        assert f"`{law}`" in cli("help", law).stdout
    assert cli("help", "convert").stdout == cli("convert", "--help").stdout


@few
@pytest.mark.parametrize("script", sorted((ROOT / "examples").glob("*.py")), ids=lambda p: p.name)
def test_examples_run(
    script: Path,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    monkeypatch.chdir(tmp_path)
    runpy.run_path(str(script), run_name="__main__")
    assert capsys.readouterr().out


OWN_CHAIN = (
    '{ law = "line", gain = 2000, offset = -100, takes = "V" }, { law = "display", step = 5 }'
)


@soak
def test_own_law_package(
    tmp_path: Path, home: Path, cli: Cli, monkeypatch: pytest.MonkeyPatch
) -> None:
    build = [sys.executable, "-m", "hatchling", "build", "-t", "wheel", "-d", str(tmp_path)]
    subprocess.run(build, cwd=ROOT / "examples/own_law", check=True, capture_output=True)
    (wheel,) = tmp_path.glob("*.whl")
    zipfile.ZipFile(wheel).extractall(tmp_path / "site")  # what an installer does with it
    bench = '[converter]\nbits = 12\nvref = "3.3 V"\n[channel.hopper]\ncolumn = "ch4"\n'
    bench += 'laws = [{ law = "wheatstone", supply = "5 V" }]\n'
    (home / "own.toml").write_text(bench)
    monkeypatch.syspath_prepend(tmp_path / "site")
    monkeypatch.setattr("jetruler.core.laws._own_laws", _own_laws.__wrapped__)  # looks anew

    def run(*args: str) -> Done:
        return cli(*args, "-b", "own.toml")

    # By hand: U = 1241 · 3.3 / 4095 V, e = 4 U / (2 · (5 − 2 U)).
    volts = 1241 * 3.3 / 4095
    assert f"{2 * volts / (5 - 2 * volts):.6g}" in run("explain", "hopper", "--at", "1241").stdout
    assert run("convert", "roast.csv", "-o", "own.csv").returncode == 0
    (home / "own.toml").write_text(bench.replace('"5 V"', "-5"))
    refused = run("explain", "hopper", "--at", "1241")
    assert refused.returncode == 2
    assert (
        "channel.hopper.laws[1 wheatstone].supply: expected a value above 0, found -5"
        in refused.stderr
    )
    # Its own fit: the gauge factor from marks of a bridge with k = 2.1, the supply stays.
    (home / "own.toml").write_text(bench)
    volts_at = {n: n * 3.3 / 4095 for n in (500, 1241, 2000)}
    marks = [f"{n}={4 * u / (2.1 * (5 - 2 * u)):.9g}" for n, u in volts_at.items()]
    found = run("fit", "hopper", *(word for mark in marks for word in ("--mark", mark)), "--write")
    assert found.returncode == 0, found.stderr
    bridge = tomllib.loads((home / "own.toml").read_text())["channel"]["hopper"]["laws"][0]
    assert bridge == {"law": "wheatstone", "supply": 5, "k": pytest.approx(2.1, rel=1e-7)}
    refused = run("fit", "hopper", "--law", "display", "--mark", marks[0])
    assert "law: expected a law that can be fitted, found 'display'" in refused.stderr
    # What a built-in law does: a row in the budget, an export in floats, and a fit before it.
    bench = bench.replace('{ law = "wheatstone", supply = "5 V" }', OWN_CHAIN)
    (home / "own.toml").write_text(bench)
    budget = run("explain", "hopper", "--at", "1241", "--budget").stdout
    assert re.search(r"rounding of display +± 2.5 ", budget)
    done = run("export", "hopper", "--to", "python", "--arith", "float", "-o", "own.py")
    assert done.returncode == 0, done.stderr
    made = runpy.run_path(str(home / "own.py"))
    assert made["hopper"](1241) == pytest.approx(5 * np.floor((2e3 * volts - 100) / 5 + 0.5))
    fitted = run("fit", "hopper", "--mark", "1000=1500", "--mark", "2000=3100", "--write")
    assert fitted.returncode == 0, fitted.stderr
    written = tomllib.loads((home / "own.toml").read_text())["channel"]["hopper"]["laws"]
    assert [law["law"] for law in written] == ["line", "display"]


def test_the_page_of_laws_is_made_from_the_laws() -> None:
    build = runpy.run_path(str(ROOT / "docs/build_laws.py"))
    assert (ROOT / "docs/laws.md").read_text("utf-8") == build["page"](), (
        "run python docs/build_laws.py"
    )
    assert {law.name for law, _ in build["entries"]()} == set(LAWS)
    circuits = {f"{name}-circuit" for name in build["CIRCUITS"]}
    assert {p.stem for p in (ROOT / "docs/laws").glob("*.svg")} == set(LAWS) | circuits


def test_every_public_name_is_there_and_documented() -> None:
    for name, value in PUBLIC.items():
        text = vars(value).get("__doc__") if isinstance(value, type) else value.__doc__
        assert text is not None, name
        assert not text.startswith(f"{name}("), f"{name}: the text that dataclass made"
        assert len(text.split()) > 3, name
    for module in MODULES:
        assert dir(module) == sorted(module.__all__)
        with pytest.raises(AttributeError, match="nonsense"):
            _ = module.nonsense
    assert set(jetruler.__all__) >= {law.__name__ for law in LAWS.values()} | {"Law"}


def test_the_help_of_the_package_tells_every_name_in_two_screens() -> None:
    told = jetruler.__doc__ or ""
    assert len(told.splitlines()) < 50 - 5  # two terminals of 25 lines, a few taken by pydoc
    assert set(jetruler.__all__) - {"errors", "plots", "results"} <= set(re.findall(r"\w+", told))


@pytest.mark.parametrize(
    ("low", "high", "many", "values"),
    [
        (0, 100, 10, [10 * i for i in range(11)]),
        (0, 4095, 10, [500 * i for i in range(9)]),
        (-0.3, 0.31, 6, [-0.2, 0.0, 0.2]),
        (1.2, 1.2, 5, [1.2]),
    ],
)
def test_round_values(low: float, high: float, many: int, values: list[float]) -> None:
    assert round_values(low, high, many) == values


def test_true_ticks_stand_where_the_ruler_says() -> None:
    damper = Counts(12) >> Line.through((198, 0), (3904, 100), unit="%") >> Clamp(0, 100)
    ticks = true_ticks(damper, 10)
    assert [t.value for t in ticks] == [10 * i for i in range(11)]
    np.testing.assert_allclose([t.raw for t in ticks], damper.inverse([t.value for t in ticks]))
    assert [t.value for t in true_ticks(damper, 10, (35, 65))] == [35, 40, 45, 50, 55, 60, 65]
    falling = Adc(12, 3.3) >> Line(-1)
    assert [t.value for t in true_ticks(falling, 4)] == [0.0, -1.0, -2.0, -3.0]


def test_pictures_show_the_numbers(home: Path) -> None:
    damper = load_bench(home / "bench.toml")["damper"]
    figure = new_figure()
    axes = figure.subplots(3)
    texts = [t.get_text() for t in draw_ruler(axes[0], damper, 1880).texts]
    for label in ("1880", "45.4 %", "count", "%", "0", "100", "4000"):
        assert label in texts
    line = draw_curve(axes[1], damper, 1880).lines[0]
    x, y = np.asarray(line.get_xdata()), np.asarray(line.get_ydata())
    np.testing.assert_array_equal(y, damper.ruler(x))
    slope = np.asarray(draw_slope(axes[2], damper).lines[0].get_ydata())
    assert np.nanmax(slope) == pytest.approx(100 / (3904 - 198))


@soak
def test_the_same_drawing_gives_the_same_bytes(home: Path) -> None:
    def drawing(form: str) -> bytes:
        figure = new_figure()
        draw_ruler(figure.add_subplot(), load_bench(home / "bench.toml")["damper"], 1880)
        return rendered(figure, form)

    for form in ("svg", "png"):
        assert drawing(form) == drawing(form)


def test_stages_show_the_chain_and_its_ends(home: Path) -> None:
    axes = draw_stages(new_figure().add_subplot(), load_bench(home / "bench.toml")["draught"], 1880)
    texts = " | ".join(t.get_text() for t in axes.texts)
    for label in ("1880 count", "1.51502 V", "0.0101001 A", "95.3144 Pa", "shunt", "3722", "249.9"):
        assert label in texts


def test_a_channel_with_a_wide_converter_can_be_drawn() -> None:
    channel = Channel("scale", Adc(24, 2.5) >> Line(4, unit="kg"), "w")
    assert draw_ruler(new_figure().add_subplot(), channel, 2**20).texts
