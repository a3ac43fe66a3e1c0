"""Every result prints the tool's text, and gives a frame, plain data and HTML; all of it light."""

from __future__ import annotations

import json
import os
import tempfile
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler
from jetruler import own
from jetruler.core.result import Result
from jetruler.logs.pairs import compare_pairs
from tests.helpers.sizes import few, thinned

jr: Any = jetruler
DEMO = Path(jetruler.__file__).parent / "demo"
BENCH = jr.load_bench(DEMO / "bench.toml")
BEAN, MARKS = BENCH["bean"], [(198, 0.0), (2050, 49.6), (3904, 100.0)]
SLIP = jr.Adc(12, 3.3) >> jr.Divider(4.7e6) >> jr.Beta(10e3, 3435)
SLIPPED = jr.Bench("Slip", {"t": jr.Channel("t", SLIP, "ch0", limits=(0, 100))})
SENSOR = jr.Channel("t", jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950), "ch0")

RESULTS: dict[str, Callable[[], Any]] = {
    "fit": lambda: jr.fit(MARKS),
    "calibrate": lambda: jr.calibrate(BEAN, jr.read_marks(DEMO / "bath.csv")),
    "budget": lambda: jr.budget(BEAN, 1880),
    "simulate": lambda: jr.simulate(BEAN, 1880, draws=2000),
    "propagate": lambda: jr.propagate(BEAN, 1880, 2.0),
    "compare": lambda: jr.compare(np.arange(50.0) + 0.3, np.arange(50.0)),
    "choose_resistor": lambda: jr.choose_resistor(SENSOR, 20, 240),
    "choose_reference": lambda: jr.choose_reference(0.3, 2.1, [1.1, 2.5, 3.3]),
    "choose_amplifier": lambda: jr.choose_amplifier(0, 0.05, 3.3),
    "choose_averaging": lambda: jr.choose_averaging(SENSOR, 0.05, at=100, noise=1.5),
    "how_many": lambda: jr.how_many(1.4, 0.1),
    "look": lambda: jr.look(DEMO / "roast.csv", BENCH),
    "export": lambda: jr.export(BEAN, "bean"),
    "naive": lambda: jr.naive(BENCH["damper"], 1880, "int16"),
    "what_if": lambda: jr.what_if(BEAN, 400, {"r0": "100 kohm ± 1 %"}),
    "survey": lambda: jr.survey(np.arange(500), 12),
    "find_ends": lambda: jr.find_ends(np.arange(200, 3900)),
    "read_pairs": lambda: jr.read_pairs(DEMO / "rest.csv", BEAN, BENCH["bean2"]),
    "check": lambda: jr.check(
        jr.Bench("Slip", {"t": jr.Channel("t", SLIP, "ch0", limits=(0, 100))})
    ),
    "check_log": lambda: jr.check_log(DEMO / "roast.csv", BENCH),
    "trace": lambda: BEAN.trace(1880),
    "convert": lambda: jr.convert(DEMO / "roast.csv", BENCH, os.devnull),
    "convert_all": lambda: jr.convert_all([DEMO / "roast.csv"], BENCH, tempfile.mkdtemp()),
}

#: What a command writes with `--json`, and the call whose `to_dict()` that is.
SAME: list[tuple[str, Callable[[], Any]]] = [
    ("look roast.csv", lambda: jr.look("roast.csv", BENCH)),
    ("convert roast.csv -o o.csv", lambda: jr.convert("roast.csv", BENCH, "o.csv")),
    ("convert roast.csv -o many/", lambda: jr.convert_all("roast.csv", BENCH, "many/")),
    ("explain bean --at 1880", lambda: BEAN.trace(1880)),
    ("explain bean --for 225", lambda: BEAN.trace_back(225.0)),
    ("explain damper --at 1880 --arith int16", RESULTS["naive"]),
    ("check", lambda: jr.check(BENCH)),
    ("check --log roast.csv", lambda: jr.check_log("roast.csv", BENCH)),
    ("choose resistor bean --from 20 --to 240", lambda: jr.choose_resistor(BEAN, 20, 240)),
    (
        "choose reference --volts 0.3:2.1 --of 1.1 --of 2.5 --of 3.3",
        RESULTS["choose_reference"],
    ),
    ("choose amplifier --volts 0:0.05 --vref 3.3", RESULTS["choose_amplifier"]),
    (
        "choose averaging bean --at 220 --to 0.05",
        lambda: jr.choose_averaging(BEAN, 0.05, at=220),
    ),
    ("fit bean --marks bath.csv", RESULTS["calibrate"]),
    (
        "compare bean bean2 --log rest.csv",
        lambda: compare_pairs(BENCH, BEAN, "bean2", RESULTS["read_pairs"]()),
    ),
]


class _Sound(HTMLParser):
    """Tags that are opened and closed in order."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.seen: set[str] = set()
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.open.append(tag)
        self.seen.add(tag)

    def handle_startendtag(self, tag: str, attrs: Any) -> None:
        self.seen.add(tag)

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


@pytest.mark.parametrize("name", thinned(RESULTS, 2))
def test_results_share_one_shape(name: str) -> None:
    found = RESULTS[name]()
    assert isinstance(found, Result)
    frame = found.to_frame()
    assert list(frame) == list(found.table)
    assert len(frame) > 0
    assert json.loads(json.dumps(found.to_dict(), allow_nan=False))
    html = found._repr_html_()
    sound = _Sound(html)
    assert not sound.open
    assert {"p", "table", "td"} <= sound.seen
    assert found.headline
    assert "\n" not in found.headline
    assert len(repr(found)) < 500
    assert len(html) < 20_000
    assert len(str(found)) < 20_000


def test_no_result_stands_outside() -> None:
    """Every class of `jetruler.results` has the shape, but for parts of results and samples."""
    parts = {"Decided", "Finding", "LiveSample", "Reading", "Severity"}
    classes = {name: getattr(jr.results, name) for name in jr.results.__all__}
    alone = {name for name, kind in classes.items() if not issubclass(kind, Result)}
    assert alone == parts


@few
@pytest.mark.parametrize(("command", "call"), SAME, ids=[command for command, _ in SAME])
def test_json_is_the_plain_data_of_the_call(
    command: str, call: Callable[[], Any], cli: Any, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done = cli(*command.split(), "--json")
    assert done.returncode in (0, 1), done.stderr
    monkeypatch.chdir(home)
    assert json.loads(done.stdout) == call().to_dict()


@few
@pytest.mark.parametrize(("command", "call"), SAME, ids=[command for command, _ in SAME])
def test_print_gives_what_the_tool_prints(
    command: str, call: Callable[[], Any], cli: Any, home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    done = cli(*command.split())
    monkeypatch.chdir(home)
    printed = done.stdout + done.stderr
    for line in str(call()).splitlines():
        assert line in printed


def test_a_budget_stands_beside_the_solution(cli: Any) -> None:
    more = ("--budget", "--draws", "5000", "--with", "r0=100 kohm ± 1 %")
    found = json.loads(cli("explain", "bean", "--at", "400", *more, "--json").stdout)
    assert found["budget"] == jr.budget(BEAN, 400).to_dict()
    assert found["simulation"] == jr.simulate(BEAN, 400, draws=5000).to_dict()
    assert found["what_if"] == jr.what_if(BEAN, 400, {"r0": "100 kohm ± 1 %"}).to_dict()


def test_the_old_name_warns_for_one_version() -> None:
    made = jr.export(BEAN, "bean")
    with pytest.warns(DeprecationWarning, match="to_dict"):
        assert made.as_dict() == made.to_dict()


def test_a_list_for_several_exports(cli: Any) -> None:
    made = cli("export", "bean", "damper", "--to", "c", "-o", "b.h", "--json")
    wanted = [jr.export(BENCH[name]).to_dict() for name in ("bean", "damper")]
    assert json.loads(made.stdout) == wanted


@pytest.mark.parametrize(
    "thing",
    [BEAN, BENCH["tray"], BEAN.ruler, jr.Line(2), jr.Counts(8), jr.Divider(4700), BEAN.trace(1880)],
    ids=["channel", "zones", "ruler", "a law without ends", "counts", "divider", "trace"],
)
def test_rulers_and_worked_solutions_show_themselves(thing: Any) -> None:
    html = thing._repr_html_()
    assert not _Sound(html).open
    assert len(html) < 100_000


def test_what_comes_from_a_file_is_escaped() -> None:
    sly = jr.Channel("a", jr.Counts(8) >> jr.Line(1), "a", about="<script>x</script>")
    assert "<script>x" not in sly._repr_html_()


@few
@pytest.mark.parametrize("to", ["c", "python", "st"])
@pytest.mark.parametrize("name", ["bean", "damper", "tray"])
def test_code_from_python_is_that_of_the_tool(to: str, name: str, home: Path, cli: Any) -> None:
    suffix = {"c": ".h", "python": ".py", "st": ".st"}[to]
    args = ("export", name, "--to", to, "--selftest")
    done = cli(*args, "-o", f"tool{suffix}")
    assert done.returncode == 0, done.stderr
    made = jr.export(jr.load_bench(home / "bench.toml")[name])
    made.save(home / f"own{suffix}", selftest=True, title="Roaster bench")
    tool, own = ((home / f"{who}{suffix}").read_text() for who in ("tool", "own"))
    assert own == made.text(to, selftest=True, title="Roaster bench")
    assert own == tool


def test_code_that_cannot_be_written_says_why(tmp_path: Path) -> None:
    made = jr.export(SENSOR, arith="float")
    assert "float" in made.text("c")
    with pytest.raises(jr.errors.ExportError, match="python computes in float64"):
        made.text("python")
    with pytest.raises(jr.errors.ExportError, match="one of c, python, st"):
        made.text("basic")
    with pytest.raises(jr.errors.ExportError, match=r"a name that ends in \.h"):
        made.save(tmp_path / "bean.bas")
    assert not list(tmp_path.iterdir())


#: What had another name in the version before, and what it is now.
OLD_NAMES: list[tuple[Callable[[], Any], Callable[[], Any]]] = [
    (lambda: jr.budget(BEAN, 1880).expanded, lambda: jr.budget(BEAN, 1880).expanded_uncertainty),
    (lambda: jr.budget(BEAN, 1880).factor, lambda: jr.budget(BEAN, 1880).coverage_factor),
    (
        lambda: jr.budget(BEAN, 9, noise=2, degrees=4).degrees,
        lambda: jr.budget(BEAN, 9, noise=2, dof=4).dof,
    ),
    (
        lambda: jr.fit(MARKS, "line", then=jr.Line(2)).degrees,
        lambda: jr.fit(MARKS, "line", downstream=jr.Line(2)).dof,
    ),
    (lambda: jr.FitCovariance("line", ("gain",), ((1.0,),), degrees=4).degrees, lambda: 4),
    (
        lambda: jr.how_many([1, 2, 1, 3] * 9, 0.1).alike,
        lambda: jr.how_many([1, 2, 1, 3] * 9, 0.1).correlation_length,
    ),
    (lambda: own.at(2.0).tolist(), lambda: own.as_array(2.0).tolist()),
    (lambda: jr.errors.ParameterError("a", 1, "b").right, lambda: "b"),
    (lambda: own.FitAsked, lambda: own.FitInput),
    (lambda: jr.Stream, lambda: jr.LogFormat),
    (lambda: jr.LogFormat(kind="csv").kind, lambda: "csv"),
    (lambda: jr.LogFormat(timestamp="t").timestamp, lambda: "t"),
    (lambda: jr.Bench("a", [], stream=None), lambda: jr.Bench("a", [])),
]


@pytest.mark.parametrize(("old", "new"), OLD_NAMES)
def test_names_of_the_version_before_still_work_and_say_the_new_one(
    old: Callable[[], object], new: Callable[[], object]
) -> None:
    with pytest.warns(DeprecationWarning, match="is called .* now") as warned:
        value = old()
    assert value == new()
    assert warned[0].filename == __file__  # Python shows it only at the caller's own line
