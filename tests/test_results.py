"""Every result prints the tool's text, and gives a frame, plain data and HTML; all of it light."""

from __future__ import annotations

import json
from collections.abc import Callable
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler
from jetruler.core.model.found import Found

jr: Any = jetruler
DEMO = Path(jetruler.__file__).parent / "demo"
BENCH = jr.load_bench(DEMO / "bench.toml")
BEAN, MARKS = BENCH["bean"], [(198, 0.0), (2050, 49.6), (3904, 100.0)]
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
}


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


@pytest.mark.parametrize("made", RESULTS.values(), ids=RESULTS)
def test_results_share_one_shape(made: Callable[[], Any]) -> None:
    found = made()
    assert isinstance(found, Found)
    frame = found.to_frame()
    assert list(frame) == list(found.table)
    assert len(frame) > 0
    assert json.loads(json.dumps(found.to_dict(), allow_nan=False))
    html = found._repr_html_()
    sound = _Sound(html)
    assert not sound.open
    assert {"p", "table", "td"} <= sound.seen
    assert found.headline
    assert len(repr(found)) < 500
    assert len(html) < 50_000


@pytest.mark.parametrize(
    "thing",
    [BEAN, BENCH["tray"], BEAN.ruler, jr.Line(2), jr.Counts(8), jr.Divider(4700), BEAN.trace(1880)],
    ids=["channel", "zones", "ruler", "a law without ends", "counts", "divider", "trace"],
)
def test_rulers_and_worked_solutions_show_themselves(thing: Any) -> None:
    html = thing._repr_html_()
    assert not _Sound(html).open
    assert len(html) < 50_000


def test_what_comes_from_a_file_is_escaped() -> None:
    sly = jr.Channel("a", jr.Counts(8) >> jr.Line(1), "a", about="<script>x</script>")
    assert "<script>" not in sly._repr_html_()


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
    with pytest.raises(jr.errors.ExportError, match="one of c, python, st is right"):
        made.text("basic")
    with pytest.raises(jr.errors.ExportError, match=r"a name that ends in \.h"):
        made.save(tmp_path / "bean.bas")
    assert not list(tmp_path.iterdir())
