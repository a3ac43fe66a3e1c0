"""What people do with results in cells: compare, copy, pickle, print, format; and what they hand
over where a bench, a log or a file is wanted."""

from __future__ import annotations

import copy
import io
import json
import pickle
import sys
from collections.abc import Callable, Mapping
from datetime import datetime
from pathlib import Path
from typing import Any

import pandas as pd
import polars as pl
import pyarrow as pa
import pytest

import jetruler as jr
from jetruler.core.result import Result
from tests.helpers.sizes import few


@pytest.fixture
def there(home: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """A folder with the demo's files, where the test runs."""
    monkeypatch.chdir(home)
    monkeypatch.setenv("HOME", str(home))
    return home


def bench() -> jr.Bench:
    return jr.load_bench("bench.toml")


#: Results by name, and how each comes about.
RESULTS: dict[str, Callable[[], Any]] = {
    "fit": lambda: jr.fit([(1, 2.0), (2, 4.1), (3, 6.2)]),
    "calibration": lambda: jr.calibrate(bench()["bean"], jr.read_marks("bath.csv")),
    "marks": lambda: jr.read_marks("bath.csv"),
    "budget": lambda: jr.budget(bench()["bean"], 400),
    "what if": lambda: jr.what_if(bench()["bean"], 400, {"r0": "100 kohm ± 1 %"}),
    "simulation": lambda: jr.simulate(bench()["bean"], 400, draws=1000),
    "look": lambda: jr.look("rest.csv"),
    "survey": lambda: jr.survey([1, 2, 3, 4, 5], 8),
    "ends": lambda: jr.find_ends(list(range(200, 3900, 7))),
    "how many": lambda: jr.how_many(2.0, 0.5),
    "findings": lambda: jr.check(bench()),
    "choice": lambda: jr.choose_resistor(bench()["bean"], 20, 240),
    "reference": lambda: jr.choose_reference(0.2, 2.3, [1.1, 2.5, 3.3]),
    "trace": lambda: bench()["bean"].trace(1880),
    "reading": lambda: bench()["bean"].read(1880),
    "exported": lambda: jr.export(bench()["damper"]),
    "naive": lambda: jr.naive(bench()["damper"], 1880, "int16"),
    "comparison": lambda: jr.compare([1, 2, 3, 4.0] * 10, [1, 2, 3, 4.1] * 10),
    "pairs": lambda: jr.read_pairs("rest.csv", bench()["bean"], bench()["bean2"]),
    "summary": lambda: jr.convert("rest.csv", parted(), "out.csv"),
    "bench": bench,
    "channel": lambda: bench()["bean"],
    "ruler": lambda: bench()["bean"].ruler,
    "law": lambda: jr.Divider("4k7 ± 1 %"),
    "trip": lambda: bench().trips["too-hot"],
}


def parted() -> jr.Bench:
    """The two channels of the log at rest."""
    return jr.Bench("Rest", [bench()["bean"], bench()["bean2"]])


@few
@pytest.mark.parametrize("name", RESULTS)
def test_a_result_can_be_compared_copied_and_sent(name: str, there: Path) -> None:
    made, again = RESULTS[name](), RESULTS[name]()
    assert made == again
    assert copy.copy(made) == made
    assert copy.deepcopy(made) == made
    sent = pickle.loads(pickle.dumps(made))
    assert sent == made
    assert made != RESULTS["budget" if name != "budget" else "fit"]()
    if name != "summary":  # which grows
        assert hash(made) == hash(again)


@pytest.mark.parametrize("name", RESULTS)
def test_a_result_in_a_cell_is_short(name: str, there: Path) -> None:
    made = RESULTS[name]()
    assert 0 < len(repr(made)) < 3000
    assert str(made)
    if isinstance(made, Result):
        json.dumps(made.to_dict())
        assert made.to_frame() is not None
        assert len(made._repr_html_()) < 60_000


@pytest.mark.parametrize(
    ("missing", "kind"), [((), pd.DataFrame), (("pandas",), pl.DataFrame)], ids=["pandas", "polars"]
)
def test_a_table_is_a_frame_of_what_is_there(
    missing: tuple[str, ...], kind: type, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in missing:
        monkeypatch.setitem(sys.modules, name, None)
    assert isinstance(jr.fit([(1, 2.0), (2, 4.1), (3, 6.2)]).to_frame(), kind)


def test_without_any_frames_a_sentence_says_what_installs_them(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    for name in ("pandas", "polars"):
        monkeypatch.setitem(sys.modules, name, None)
    with pytest.raises(jr.errors.PackageError, match=r"pip install 'jet-ruler\[pandas\]'"):
        jr.fit([(1, 2.0), (2, 4.1)]).to_frame()


def test_readings_and_flags_are_formatted(there: Path) -> None:
    one = bench()["bean"].read(1880)
    assert f"{one:.1f} °C" == "120.8 °C"
    assert f"{one}" == str(one) == "120.795 °C"
    assert float(one) == one.value
    high = bench()["bean"].read(4095)
    assert str(high.flags) == "high_rail" == ", ".join(high.flag_names)
    assert bench()["bean"].read([1880, 4095]).flag_names == [[], high.flag_names]
    assert str(one.flags) == "none"
    assert one._repr_html_() == "<code>120.795 °C</code>"


def test_a_bench_is_a_mapping_that_completes_its_keys(there: Path) -> None:
    known = bench()
    assert isinstance(known, Mapping)
    assert known._ipython_key_completions_() == list(known.keys()) == list(known)
    assert "glass-bead NTC" in known._repr_html_()
    assert len({known, bench()}) == 1


def data(path: str) -> io.BytesIO:
    return io.BytesIO(Path(path).read_bytes())


BENCHES: dict[str, Callable[[], Any]] = {
    "bench": bench,
    "text": lambda: "bench.toml",
    "path": lambda: Path("bench.toml"),
    "home": lambda: "~/bench.toml",
    "open": lambda: io.TextIOWrapper(data("bench.toml"), "utf-8"),
    "bytes": lambda: data("bench.toml"),
    "StringIO": lambda: io.StringIO(Path("bench.toml").read_text("utf-8")),
}


@few
@pytest.mark.parametrize("kind", BENCHES)
def test_a_path_or_an_open_file_where_a_bench_is_wanted(kind: str, there: Path) -> None:
    given = BENCHES[kind]
    assert jr.check(given()) == jr.check(bench())
    assert jr.look("roast.csv", given()).rows == 4200
    assert jr.check_log("roast.csv", given())[0].where == "bean"
    assert jr.convert("roast.csv", given(), "out.csv").rows == 4200
    assert jr.report(given(), "r.md", channels="damper", at=1880)[0] == Path("r.md")
    with jr.stream("roast.csv", given()) as samples:
        assert next(samples).time == 0.0
    with pytest.raises(jr.errors.KindError, match=r"bench: expected a bench, .* found int"):
        jr.check(3)  # type: ignore[arg-type]


LOGS: dict[str, Callable[[], Any]] = {
    "text": lambda: "rest.csv",
    "path": lambda: Path("rest.csv"),
    "home": lambda: "~/rest.csv",
    "open": lambda: io.TextIOWrapper(data("rest.csv")),
    "StringIO": lambda: io.StringIO(Path("rest.csv").read_text()),
    "BytesIO": lambda: data("rest.csv"),
    "bytes": lambda: data("rest.csv").getvalue(),
    "pandas": lambda: pd.read_csv("rest.csv"),
    "polars": lambda: pl.read_csv("rest.csv"),
    "Arrow": lambda: pa.Table.from_pandas(pd.read_csv("rest.csv"), preserve_index=False),
}


@few
@pytest.mark.parametrize("kind", LOGS)
def test_whatever_holds_a_log(kind: str, there: Path) -> None:
    given, known = LOGS[kind], parted()
    rows = jr.look("rest.csv", known).rows
    assert jr.look(given(), known).rows == rows
    assert len(jr.check_log(given(), known)) == len(jr.check_log("rest.csv", known))
    assert jr.convert(given(), known, "~/a.csv").rows == rows
    jr.convert("rest.csv", known, "b.csv")
    a, b = (pd.read_csv(name)["bean_degC"] for name in ("a.csv", "b.csv"))
    pd.testing.assert_series_equal(a, b)
    if kind in ("text", "path", "home", "pandas", "Arrow", "polars"):
        with jr.stream(given(), known) as samples:
            assert sum(1 for _ in samples) == rows


def test_files_of_marks(there: Path) -> None:
    wanted = jr.read_marks("bath.csv").raw.tolist()
    text = Path("bath.csv").read_text()
    for given in (Path("bath.csv"), "~/bath.csv", io.StringIO(text), io.BytesIO(text.encode())):
        assert jr.read_marks(given).raw.tolist() == wanted


def test_times_are_numbers_and_dates() -> None:
    knob = jr.Bench("Desk", [jr.Channel("knob", jr.Counts(12) >> jr.Line(0.1), "k")])
    lines = ["when,k", "2026-11-30T18:00:00,100", "2026-11-30T18:00:01,101"]
    first, second = jr.stream(lines, knob)
    assert second.time - first.time == 1.0
    assert first.timestamp == datetime(2026, 11, 30, 18, 0)
    (plain,) = jr.stream(["t_s,k", "5,100"], knob)
    assert (plain.time, plain.timestamp) == (5.0, None)


def test_what_cannot_be_opened_leaves_nothing_open(there: Path) -> None:
    with pytest.raises(jr.JetRulerError, match="nowhere"):
        jr.Live("bench.toml", "roast.csv", record="rec.csv", events="nowhere/events.csv")
    Path("rec.csv").rename("moved.csv")  # nobody holds it
    with pytest.raises(jr.errors.KindError, match="out: expected a path, found BytesIO"):
        jr.convert("roast.csv", "bench.toml", io.BytesIO())  # type: ignore[arg-type]


@pytest.mark.parametrize("at", ["1.5 V", "1861 count", 1861, "50 %"])
def test_where_one_raw_value_is_wanted(at: Any, there: Path) -> None:
    bean = bench()["bean"]
    assert jr.budget(bean, at).value == bean(jr.budget(bean, at).at)
    assert jr.simulate(bean, at, draws=1000).budget.at == jr.budget(bean, at).at
    assert bean.trace(at).start == jr.budget(bean, at).at
    with pytest.raises(jr.errors.KindError, match="at: expected one raw value, found list"):
        jr.budget(bean, [400, 1880])  # type: ignore[arg-type]


def test_a_second_count_is_no_place_for_results(there: Path) -> None:
    with pytest.raises(jr.errors.KindError, match="several counts are a list"):
        bench()["bean"](1880, 400)  # type: ignore[call-overload]
