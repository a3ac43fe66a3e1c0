"""Frames in, the like frames out: the same readings as a log's, however a frame is divided."""

from __future__ import annotations

import subprocess
import sys
from itertools import pairwise
from pathlib import Path
from types import ModuleType
from typing import Any

import cloudpickle
import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from jetruler import Adc, Bench, Beta, Divider, Ruler, convert, load_bench
from jetruler.benchfile.load import parse_bench
from jetruler.core.ruler.converter import THREAD_SIZE
from jetruler.errors import LogError
from tests.conftest import BENCH, of_cluster
from tests.helpers.sizes import few, fewer, soak
from tests.logs.test_archives import SMOOTH


@pytest.fixture
def roast(home: Path) -> tuple[Bench, pd.DataFrame, dict[str, list[Any]]]:
    """The demo's bench, its log as a frame, and the log as `convert` converts it."""
    bench = load_bench(home / "bench.toml")
    convert(home / "roast.csv", bench, home / "out.parquet", uncertainty=True)
    return bench, pd.read_csv(home / "roast.csv"), pq.read_table(home / "out.parquet").to_pydict()


def same(found: dict[str, list[Any]], wanted: dict[str, list[Any]]) -> None:
    """The same columns, and in each the same values to the last bit; NaN is None."""
    assert list(found) == list(wanted)
    for name, column in wanted.items():
        if name != "note":  # passes through; its empty cells are each library's own
            assert [None if x != x else x for x in found[name]] == column, name


def test_each_kind_gives_its_like_with_the_values_of_the_log(
    roast: tuple[Bench, pd.DataFrame, dict[str, list[Any]]],
) -> None:
    bench, frame, wanted = roast
    by_pandas = bench.convert(frame, uncertainty=True)
    assert isinstance(by_pandas, pd.DataFrame)
    assert [by_pandas[name].dtype.name for name in ("flags", "tray_zone")] == ["category"] * 2
    same({str(k): v for k, v in by_pandas.to_dict("list").items()}, wanted)
    table = pa.table(frame)
    by_table = bench.convert(table, uncertainty=True)
    assert isinstance(by_table, pa.Table)
    same(by_table.to_pydict(), wanted)
    batch = bench.convert(table.to_batches()[0], uncertainty=True)
    assert isinstance(batch, pa.RecordBatch)
    same(batch.to_pydict(), wanted)
    by_polars = bench.convert(pl.from_pandas(frame), uncertainty=True)
    assert isinstance(by_polars, pl.DataFrame)
    same(by_polars.to_dict(as_series=False), wanted)
    assert list(frame) == ["time_s", *(f"ch{i}" for i in range(8)), "note"]  # untouched


def test_options_index_and_odd_columns() -> None:
    bench = parse_bench(BENCH)
    index = pd.Index(["x", "y", "z"], name="cup")
    frame = pd.DataFrame({"ch0": ["2048", "?", 9999], "ch1": [198.0, np.nan, 3904], 7: 1}, index)
    found = bench.convert(frame)
    assert list(found.index) == list(index)
    assert list(found) == [7, "bean_V", "damper_percent", "flags"]
    assert found["bean_V"].tolist() == pytest.approx(
        [1.6504, np.nan, np.nan], abs=1e-4, nan_ok=True
    )
    flags = ["", "bean:missing;damper:missing", "bean:off_scale"]
    assert found["flags"].tolist() == flags
    assert list(bench.convert(frame, only=["damper"], keep_raw=True)) == [
        *("ch0", "ch1", 7, "damper_percent", "flags"),
    ]
    empty = bench.convert(frame.iloc[:0])
    assert list(empty) == list(found)
    assert empty.dtypes["bean_V"] == np.float64
    chunked = pa.chunked_array([[1, 2], [], [3]])
    assert bench.convert(pa.table({"ch0": chunked, "ch1": chunked})).num_rows == 3


@pytest.mark.parametrize(
    ("frame", "error", "told"),
    [
        (pd.DataFrame({"ch0": [1]}), LogError, "there is no column 'ch1'; it has: ch0"),
        (pd.DataFrame({"ch0": [1], "ch1": [2], "flags": [0]}), LogError, "name of a result"),
        (pl.LazyFrame({"ch0": [1]}), TypeError, r"\.collect\(\) it first"),
        ({"ch0": [1]}, TypeError, "found builtins.dict"),
        (pd.Series([1]), TypeError, "found pandas"),
    ],
    ids=["column", "name", "lazy", "dict", "series"],
)
def test_what_is_no_frame_of_the_bench(frame: Any, error: type[Exception], told: str) -> None:
    with pytest.raises(error, match=told):
        parse_bench(BENCH).convert(frame)


def test_decisions_need_their_channels_a_clock_and_trips() -> None:
    frame = pd.DataFrame({"ch0": [1], "ch1": [2]})
    for bench, only, told in [
        (SMOOTH, ["damper"], "trip.hot looks at bean, which is not converted"),
        (BENCH, [], "expected a bench that decides, found no trips and no drives"),
        (SMOOTH.replace('"3 s"', "3") + 'hold = "1 s"\n', [], "trip.hot.hold asks for"),
    ]:
        with pytest.raises(LogError, match=told):
            parse_bench(bench).convert(frame, commands=True, only=only)


def made_up(rows: int) -> pd.DataFrame:
    rng = np.random.default_rng(rows)
    wave = 2000 + 1500 * np.sin(np.arange(rows) / 9) + rng.normal(0, 200, rows)
    frame = pd.DataFrame(
        {"time_s": np.arange(rows) / 5, "ch0": wave, "ch1": 4096 * rng.random(rows)}
    )
    counts = frame[["ch0", "ch1"]].round().clip(0, 4095)
    counts[rng.random(rows) < 0.1] = np.nan
    return frame.assign(ch0=counts["ch0"], ch1=counts["ch1"])


@of_cluster
@fewer(4)
@example([1, 1, 64], "mean", "counts")  # a part in which no sample is there
@given(
    st.lists(st.integers(0, 90), min_size=1, max_size=6).filter(lambda sizes: sum(sizes) > 20),
    st.sampled_from(["mean", "median", "exponential", "spikes"]),
    st.sampled_from(["counts", "values"]),
)
def test_partitions_remember_what_came_before(sizes: list[int], kind: str, where: str) -> None:
    """Smoothing, zones that hold and trips see across every border, also of empty partitions."""
    import dask.dataframe as dd

    text = SMOOTH.replace('"exponential"', f'"{kind}", where = "{where}"')
    bench, whole = parse_bench(text), made_up(sum(sizes))
    ends = np.cumsum([0, *sizes])
    parts = [whole.iloc[a:b] for a, b in pairwise(ends)]
    lazy = dd.concat([dd.from_pandas(part, npartitions=1) for part in parts])
    found = bench.convert(lazy, commands=True)
    assert isinstance(found, dd.DataFrame)
    result = found.compute(scheduler="sync")
    wanted = bench.convert(whole, commands=True)
    assert list(result) == list(wanted)
    assert wanted["hot"].any()
    for name in wanted:
        if wanted[name].dtype == "category":
            assert result[name].astype(str).tolist() == wanted[name].astype(str).tolist()
        else:
            assert result[name].to_numpy().tobytes() == wanted[name].to_numpy().tobytes(), name


@of_cluster
@pytest.mark.parametrize("decide", [True, False], ids=["remembers", "on its own"])
def test_the_graph_grows_with_partitions_and_not_with_counts(decide: bool) -> None:
    """A bench in use holds an entry for every count: none of them may travel, or be walked."""
    import dask.dataframe as dd

    text, frame = (SMOOTH if decide else BENCH), made_up(400)

    def graph(bits: int, partitions: int) -> tuple[int, int]:
        bench = parse_bench(text.replace("bits = 12", f"bits = {bits}"))
        bench.convert(frame)  # compiles its tables
        lazy = bench.convert(dd.from_pandas(frame, npartitions=partitions), commands=decide)
        made = dict(lazy.__dask_graph__())
        return len(made), len(cloudpickle.dumps(made))

    (tasks, size), (wide_tasks, wide_size) = graph(8, 4), graph(16, 4)
    assert wide_tasks == tasks
    assert wide_size == pytest.approx(size, abs=50)  # the number of bits has another digit
    more_tasks, more_size = graph(16, 8)
    assert 4 <= more_tasks - tasks <= 40
    frames = 400 * 3 * 8  # bytes of the samples, however they are divided
    assert (more_size - wide_size) < 0.5 * frames


@soak
@of_cluster
def test_dask_frames_stay_lazy_and_run_on_real_workers(tmp_path: Path, cluster: str) -> None:
    import dask.dataframe as dd
    import distributed

    whole = made_up(3000)
    for i in range(6):
        whole.iloc[500 * i : 500 * (i + 1)].to_parquet(tmp_path / f"part{i}.parquet")
    bench = parse_bench(SMOOTH)
    lazy = bench.convert(dd.read_parquet(tmp_path))
    assert list(lazy.columns) == ["time_s", "bean_V", "damper_zone", "flags"]
    assert lazy.npartitions == 6
    (tmp_path / "part0.parquet").rename(tmp_path / "away")
    with pytest.raises(FileNotFoundError):  # nothing was read when it was asked for
        lazy.compute(scheduler="sync")
    (tmp_path / "away").rename(tmp_path / "part0.parquet")
    with distributed.Client(cluster):
        found = lazy.compute()
    wanted = bench.convert(whole)
    assert found["bean_V"].to_numpy().tobytes() == wanted["bean_V"].to_numpy().tobytes()
    assert found["flags"].astype(str).tolist() == wanted["flags"].astype(str).tolist()


RULER = Adc(12, 3.3) >> Divider(4700) >> Beta(100e3, 3950)


@of_cluster
def test_dask_arrays_and_series_stay_lazy() -> None:
    import dask.array as da
    import dask.dataframe as dd

    counts = np.random.default_rng(3).integers(-5, 4100, (300, 70)).astype(np.int16)
    lazy = da.from_array(counts, chunks=(64, 32))
    for found, wanted in [
        (RULER(lazy), RULER(counts)),
        (RULER.read(lazy).flags, RULER.read(counts).flags),
        (RULER.read(lazy).value, RULER.read(counts).value),
        (RULER.slope(lazy), RULER.slope(counts)),
        (RULER.inverse(lazy), RULER.inverse(counts)),
    ]:
        assert isinstance(found, da.Array)
        assert found.dtype == wanted.dtype
        assert found.compute(scheduler="sync").tobytes() == wanted.tobytes()
    series = pd.Series(counts[:, 0], name="ch0")
    later = RULER(dd.from_pandas(series, npartitions=3))
    pd.testing.assert_series_equal(later.compute(scheduler="sync"), RULER(series))


@few
@pytest.mark.parametrize("threads", [2, 3, 16])
@pytest.mark.parametrize("size", [0, 1, 2 * THREAD_SIZE, 3 * THREAD_SIZE + 17])
def test_threads_change_no_bit(threads: int, size: int) -> None:
    counts = np.random.default_rng(size).integers(-5, 4100, size)
    for ruler, samples in (
        (RULER, counts),
        (RULER, counts + 0.25),
        (Ruler(RULER.laws[1:]), counts),
    ):
        assert ruler(samples, threads=threads).tobytes() == ruler(samples).tobytes()
        reading, wanted = ruler.read(samples, threads=threads), ruler.read(samples)
        assert reading.flags.tobytes() == wanted.flags.tobytes()
    with pytest.raises(ValueError, match="threads: expected at least 1, found 0"):
        RULER(counts, threads=0)


def test_a_library_that_another_thread_is_loading(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in ("numpy.ma", "pandas", "polars", "dask.array", "dask.dataframe"):
        monkeypatch.setitem(sys.modules, name, ModuleType(name))
    assert RULER(np.array([1880]))[0] == RULER([1880])[0] == RULER(1880)
    with pytest.raises(TypeError, match="found builtins"):
        parse_bench(BENCH).convert(object())


def test_nobody_pays_for_a_library_that_was_not_handed_over(tmp_path: Path) -> None:
    code = (
        "import sys, pyarrow as pa; from jetruler.benchfile.load import parse_bench\n"
        f"bench = parse_bench({BENCH!r})\n"
        "bench.convert(pa.RecordBatch.from_arrays(\n"
        "    [pa.Array.from_buffers(pa.int64(), 1, [None, pa.py_buffer(bytes(8))])] * 2,\n"
        "    names=['ch0', 'ch1']))\n"
        "print([m for m in ('pandas', 'polars', 'dask', 'distributed') if m in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"
    bare = "import sys, jetruler; print('numpy' in sys.modules)"
    done = subprocess.run([sys.executable, "-c", bare], capture_output=True, text=True, check=True)
    assert done.stdout == "False\n"
