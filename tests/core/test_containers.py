"""Whatever holds numbers, at every door: the same numbers, what is missing stays missing, and the
kind comes back."""

from __future__ import annotations

import math
from array import array
from collections import UserList, deque
from collections.abc import Callable
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pytest
import xarray as xr

import jetruler as jr
from jetruler.core.containers import as_samples, to_array
from tests.conftest import of_cluster
from tests.helpers.sizes import sizes

RAW = [1880, 400, 3912, 1880, 1881, 2000, 2100, 2200, 2300, 2400]
GAP = 3  # of those that can say that a sample is missing


class Speaks:
    """What has nothing but NumPy's protocol."""

    def __init__(self, values: list[int]) -> None:
        self.values = values

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> Any:
        return np.array(self.values, dtype)


class Streams:
    """What has nothing but Arrow's protocol."""

    def __init__(self, values: list[Any]) -> None:
        self.table = pa.chunked_array([values])

    def __arrow_c_stream__(self, requested_schema: Any = None) -> Any:
        return self.table.__arrow_c_stream__(requested_schema)


def with_gap(values: list[int]) -> list[Any]:
    return [None if i == GAP else value for i, value in enumerate(values)]


Make = Callable[[list[int]], Any]
#: Kinds that have no word for "missing".
WHOLE: dict[str, Make] = {
    "list": list,
    "tuple": tuple,
    "deque": deque,
    "user list": UserList,
    "array of int": lambda v: array("i", v),
    "array of uint16": lambda v: array("H", v),
    "int16": lambda v: np.array(v, np.int16),
    "uint32": lambda v: np.array(v, np.uint32),
    "big endian": lambda v: np.array(v, ">i4"),
    "strided": lambda v: np.repeat(np.array(v), 2)[::2],
    "memoryview": lambda v: memoryview(array("i", v)),
    "decimals": lambda v: [Decimal(x) for x in v],
    "fractions": lambda v: [Fraction(x) for x in v],
    "__array__": Speaks,
    "categorical": lambda v: pd.Series(v, dtype="category"),
    "pandas index": pd.Index,
}
#: Kinds in which the sample at `GAP` is missing.
GAPPY: dict[str, Make] = {
    "list with None": with_gap,
    "floats with NaN": lambda v: np.array([math.nan if x is None else x for x in with_gap(v)]),
    "float32 with NaN": lambda v: np.array(
        [math.nan if x is None else x for x in with_gap(v)], np.float32
    ),
    "masked": lambda v: np.ma.array(v, mask=[i == GAP for i in range(len(v))]),
    "objects": lambda v: np.array(with_gap(v), object),
    "pandas": lambda v: pd.Series(with_gap(v), name="bean"),
    "pandas Int64": lambda v: pd.Series(with_gap(v), dtype="Int64"),
    "pandas Arrow": lambda v: pd.Series(with_gap(v), dtype="int64[pyarrow]"),
    "pandas array": lambda v: pd.array(with_gap(v), dtype="Int64"),
    "polars": lambda v: pl.Series("bean", with_gap(v)),
    "Arrow array": lambda v: pa.array(with_gap(v)),
    "Arrow chunks": lambda v: pa.chunked_array([with_gap(v)[:4], with_gap(v)[4:]]),
    "Arrow dictionary": lambda v: pa.array(with_gap(v)).dictionary_encode(),
    "Arrow stream": lambda v: Streams(with_gap(v)),
    "xarray": lambda v: xr.DataArray(
        [math.nan if x is None else x for x in with_gap(v)], dims="time"
    ),
}
KINDS = WHOLE | GAPPY

BEAN = jr.Adc(12, 3.3) >> jr.Divider(4700.0, sensor="lower") >> jr.Beta(1e5, 3950.0)
LINE = jr.Line(0.1, 5.0)
CHANNEL = jr.Channel("bean", BEAN, "bean", limits=(0, 260))
SMOOTHING = jr.Smoothing("mean", 2)
BENCH = jr.Bench("Desk", [CHANNEL])


def numbers(values: Any) -> list[float]:
    """Plain floats, NaN where there is no value."""
    if isinstance(values, pa.Array | pa.ChunkedArray | pl.Series):
        values = values.to_pylist() if hasattr(values, "to_pylist") else values.to_list()
    elif hasattr(values, "tolist"):
        values = values.tolist()
    return [math.nan if v is None or v is pd.NA else float(v) for v in values]


def _fitted(x: Any) -> list[float]:
    return list(jr.Marks(x, [20.0 + i for i in range(len(RAW))]).raw)


#: What can be called with numbers, and gives numbers back.
DOORS: dict[str, Callable[[Any], Any]] = {
    "ruler": BEAN,
    "read": lambda x: BEAN.read(x).value,
    "flags": lambda x: BEAN.read(x).flags,
    "slope": BEAN.slope,
    "inverse": lambda x: (jr.Counts(12) >> jr.Line(1)).inverse(x),
    "law": LINE.forward,
    "channel": CHANNEL,
    "smooth": lambda x: jr.smooth(x, SMOOTHING),
    "averages": lambda x: jr.block_averages(x, 2),
    "survey": lambda x: [getattr(jr.survey(x, 12), n) for n in ("mean", "median", "missing")],
    "look": lambda x: [next(iter(jr.look(x).columns.values())).survey.mean],
    "ends": lambda x: [jr.find_ends(x).low, jr.find_ends(x).high],
    "compare": lambda x: [jr.compare(x, [v + 1.0 for v in RAW]).bias],
    "to_array": lambda x: to_array(x)[0],
}


@pytest.mark.parametrize("door", DOORS)
def test_every_kind_gives_the_same_numbers_at_every_door(door: str) -> None:
    call = DOORS[door]
    gap = np.array(RAW, np.float64)
    gap[GAP] = np.nan
    expected = {"whole": numbers(call(np.array(RAW))), "gap": numbers(call(gap))}
    wrong = {}
    for kind, make in KINDS.items():
        found = numbers(call(make(RAW)))
        wanted = expected["gap" if kind in GAPPY else "whole"]
        if not np.array_equal(found, wanted, equal_nan=True):
            wrong[kind] = found
    assert wrong == {}


@pytest.mark.parametrize(
    ("kind", "back"),
    [
        ("list", list),
        ("tuple", tuple),
        ("deque", deque),
        ("array of int", array),
        ("memoryview", memoryview),
        ("int16", np.ndarray),
        ("__array__", np.ndarray),
        ("pandas", pd.Series),
        ("pandas index", pd.Index),
        ("polars", pl.Series),
        ("Arrow array", pa.Array),
        ("Arrow chunks", pa.Array),
        ("xarray", xr.DataArray),
    ],
)
def test_the_kind_comes_back(kind: str, back: type) -> None:
    assert isinstance(BEAN(KINDS[kind](RAW)), back)
    assert isinstance(jr.smooth(KINDS[kind](RAW), SMOOTHING), back)


def test_what_is_null_is_null_again() -> None:
    assert BEAN(pl.Series("bean", with_gap(RAW))).null_count() == 1
    assert BEAN(pa.array(with_gap(RAW))).null_count == 1
    assert BEAN(pd.array(with_gap(RAW), dtype="Int64")).isna().sum() == 1
    named = BEAN(xr.DataArray(np.array([RAW, RAW]), dims=("run", "time"), name="bean"))
    assert (named.dims, named.name, named.shape) == (("run", "time"), "bean", (2, len(RAW)))


def test_shapes_are_kept_and_columns_smoothed_apart() -> None:
    """Two columns side by side are no one row of samples."""
    two = np.array([RAW, RAW[::-1]]).T
    assert BEAN(two).shape == two.shape
    assert BEAN(two.tolist()) == BEAN(two).tolist()
    apart = np.stack([jr.smooth(two[:, i], SMOOTHING) for i in (0, 1)], axis=1)
    assert jr.smooth(two, SMOOTHING) == pytest.approx(apart)
    assert jr.smooth(two.T, SMOOTHING, axis=1) == pytest.approx(apart.T)
    frame = jr.smooth(pd.DataFrame(two, columns=["a", "b"]), SMOOTHING)
    assert frame.to_numpy() == pytest.approx(apart)
    assert list(frame.columns) == ["a", "b"]
    with pytest.raises(jr.errors.ParameterError, match="axis: expected an axis"):
        jr.smooth(two, SMOOTHING, axis=2)


@of_cluster
def test_what_is_lazy_stays_lazy() -> None:
    import dask.array as da
    import dask.dataframe as dd

    lazy = da.from_array(np.array(RAW), chunks=3)
    series = dd.from_pandas(pd.Series(RAW, name="bean"), npartitions=2)
    for given in (lazy, series, xr.DataArray(lazy, dims="time")):
        found = BEAN(given)
        assert hasattr(found, "compute")
        assert numbers(found.compute()) == BEAN(RAW)
        assert jr.survey(given, 12).mean == pytest.approx(np.mean(RAW))


def test_expressions_and_frames() -> None:
    frame = pl.DataFrame({"bean": with_gap(RAW), "damper": RAW})
    by_expression = frame.lazy().select(BEAN(pl.col("bean"))).collect()["bean"]
    assert numbers(by_expression) == pytest.approx(numbers(BEAN(frame["bean"])), nan_ok=True)
    for kind in (frame, frame.to_arrow(), frame.to_pandas()):
        found = BEAN(kind)
        assert type(found) is type(kind)
        assert numbers(found["damper"]) == pytest.approx(BEAN(RAW))


@pytest.mark.parametrize(
    ("given", "found", "hint"),
    [
        ("1880", "str ('1880')", "float()"),
        (b"1880", "bytes", "float()"),
        ({"bean": 1880}, "dict", "values()"),
        ({1880}, "set", "make it a list"),
        ((i for i in [1]), "generator", "make it a list"),
        (True, "bool", ""),
        (1j, "complex", ""),
        (object(), "object", ""),
        ([[1, 2], [3]], "rows of different lengths", ""),
        (["1880"], "text", ""),
        ([True], "truth values", ""),
        ([1880, True], "truth values", ""),
        ((1.5, False), "truth values", ""),
        (np.array(["2026-11-30"], "M8[s]"), "dates", ""),
        (pd.Series(["a"]), "str ('a')", ""),
        (pd.DataFrame({"a": ["x"]}), "column 'a'", ""),
        (pl.Series(["a"]), "String ('a')", ""),
        (pl.LazyFrame({"a": [1]}), "a LazyFrame", "collect() it"),
        (pa.array(["a"]), "string (a)", ""),
    ],
)
@pytest.mark.parametrize("door", ["ruler", "smooth", "survey"])
def test_what_is_no_number_is_refused_in_a_sentence(
    door: str, given: Any, found: str, hint: str
) -> None:
    with pytest.raises(TypeError, match="expected ") as refused:
        DOORS[door](given)
    assert isinstance(refused.value, jr.errors.JetRulerError)
    message = str(refused.value)
    assert found in message
    assert hint in message
    assert "\n" not in message


@of_cluster  # a Dataset loads Dask
def test_a_dataset_is_refused_in_a_sentence() -> None:
    for door in ("ruler", "smooth", "survey"):
        dataset = xr.Dataset({"bean": ("t", RAW)})
        test_what_is_no_number_is_refused_in_a_sentence(door, dataset, "a Dataset", "bean")


def test_integers_of_64_bits_stay_exact_beside_a_gap() -> None:
    wide = [2**62 + 1, None, 2**62 + 3]
    for kind in (pa.array(wide), pd.array(wide, dtype="Int64"), pl.Series(wide), wide):
        found, missing = as_samples(kind)
        assert found[[0, 2]].tolist() == [2**62 + 1, 2**62 + 3]
        assert missing is not None
        assert missing.tolist() == [False, True, False]


@pytest.mark.parametrize("rows", sizes(5, 200))
def test_any_size_and_dtype(rows: int) -> None:
    rng = np.random.default_rng(rows)
    for dtype in ("u1", "i2", "<i4", ">u8", "f2", "f4", "f8"):
        values = rng.integers(0, 200, rows).astype(dtype)
        assert BEAN(values) == pytest.approx(BEAN(values.astype(np.float64)), nan_ok=True)
        assert BEAN(values.reshape(1, -1, 1)).shape == (1, rows, 1)
