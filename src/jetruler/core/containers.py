"""Any kind of numbers in, the same kind out: the one door for what people have.

Nobody pays for a library here: whoever gives a Series, a DataArray or a quantity has loaded
its library already.
"""

from __future__ import annotations

import sys
from array import array
from collections import deque
from collections.abc import Callable, Sequence
from decimal import Decimal
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any, Literal, Protocol, TypeVar, overload

import numpy as np

from . import OUTER
from .error_types import KindError
from .numerics import AnyArray, Array, Numbers

#: What turns an array of results into the kind that was passed.
Like = Callable[[AnyArray], Any]
#: Numbers as an array, where one is missing, and the way back.
Taken = tuple[AnyArray, AnyArray | None, Like]

#: What can be passed, in words.
EXPECTED = "numbers: a number, a list, an array, a Series or a frame"


class NumbersError(KindError):
    """What was passed is no numbers: what was expected, what was found, and what helps."""

    def __init__(
        self, found: str, hint: str = "", expected: str = EXPECTED, place: str = ""
    ) -> None:
        self.found = found
        text = f"expected {expected}, found {found}" + (f"; {hint}" if hint else "")
        super().__init__(f"{place}: {text}" if place else text)


Given = TypeVar("Given")


class LikeCall(Protocol):
    """A method of numbers for a type checker: what kind comes back of what was given."""

    @overload
    def __call__(self, x: float | None) -> float: ...
    @overload
    def __call__(self, x: list[int] | list[float] | range) -> list[float]: ...
    @overload
    def __call__(self, x: tuple[float, ...]) -> tuple[float, ...]: ...
    @overload
    def __call__(self, x: AnyArray) -> Array: ...
    @overload
    def __call__(self, x: Given) -> Given: ...


class ConvertCall(Protocol):
    """The same for a ruler that is called."""

    @overload
    def __call__(
        self, x: float | None, *, threads: int = ..., units: Literal[False] = ...
    ) -> float: ...
    @overload
    def __call__(
        self, x: list[int] | list[float] | range, *, threads: int = ..., units: Literal[False] = ...
    ) -> list[float]: ...
    @overload
    def __call__(
        self, x: tuple[float, ...], *, threads: int = ..., units: Literal[False] = ...
    ) -> tuple[float, ...]: ...
    @overload
    def __call__(
        self,
        x: AnyArray,
        out: Array | None = ...,
        threads: int = ...,
        units: Literal[False] = ...,
    ) -> Array: ...
    @overload
    def __call__(self, x: Any, *, threads: int = ..., units: Literal[True]) -> Any: ...
    @overload
    def __call__(
        self,
        x: Given,
        out: Array | None = ...,
        threads: int = ...,
        units: Literal[False] = ...,
    ) -> Given: ...


if TYPE_CHECKING:

    class like_given:  # noqa: N801
        """Marks a method that gives the kind that it is given."""

        def __init__(self, method: Callable[..., Any]) -> None: ...
        def __get__(self, owner: Any, kind: Any = None) -> LikeCall: ...

    class converts:  # noqa: N801
        """Marks a call that converts."""

        def __init__(self, method: Callable[..., Any]) -> None: ...
        def __get__(self, owner: Any, kind: Any = None) -> ConvertCall: ...
else:

    def like_given(method):
        return method

    def converts(method):
        return method


def to_array(x: Any) -> tuple[Numbers, Like]:
    """Return the numbers in x as an array of integers or float64, and what makes the kind of x of
    such an array.

    Parameters
    ----------
    x : anything that holds numbers
        What is missing (None, NaN, NA, null, masked) becomes NaN. Shapes are kept.

    Raises
    ------
    NumbersError
        For what is no number.
    """
    numbers, missing, like = _taken(x)
    if missing is not None and missing.any():
        numbers = numbers.astype(np.float64)
        numbers[missing] = np.nan
    return numbers, like


def as_samples(values: Any) -> tuple[AnyArray, AnyArray | None]:
    """Return numbers as one row of samples, and where one is missing: masked, null or None; NaN
    stays NaN, and integers stay integers.

    Parameters
    ----------
    values : anything that holds numbers
        Numbers of any shape; the result has shape (n,).

    Raises
    ------
    NumbersError
        For what is no number.
    """
    if (whole := getattr(values, "compute", None)) is not None and is_lazy(values):
        values = whole()
    numbers, missing, _ = _taken(values)
    numbers = np.ascontiguousarray(numbers.reshape(-1))
    if numbers.dtype.itemsize < 4 and numbers.dtype.kind != "f":
        numbers = numbers.astype(np.int64)
    return numbers, None if missing is None else missing.reshape(-1)


def loaded(module: str, name: str) -> Any:
    """A class of a module, if that is loaded; None also while another thread is loading it."""
    return getattr(sys.modules.get(module), name, None)


#: What is asked about most, and is of no library but NumPy itself.
_PLAIN = frozenset({float, int, bool, str, list, tuple, type(None), np.ndarray})


def is_a(x: Any, module: str, *names: str) -> bool:
    """Whether x is of one of these classes of a library, if that is loaded."""
    if x.__class__ in _PLAIN:
        return False
    kinds = tuple(kind for name in names if (kind := loaded(module, name)) is not None)
    return bool(kinds) and isinstance(x, kinds)


def is_lazy(x: Any) -> bool:
    """Whether x is computed later: something of Dask."""
    return is_a(x, "dask.array", "Array") or is_a(x, "dask.dataframe", "Series", "DataFrame")


def lazily(x: Any, compute: Callable[[Any], Any], dtype: str = "float64") -> Any:
    """What `compute` makes of the parts of something lazy, not computed: an array, a Series or a
    frame of Dask, a DataArray over one, an expression of Polars. None for anything else."""
    if is_a(x, "dask.array", "Array"):
        return x.map_blocks(compute, dtype=dtype, meta=np.empty((0,) * x.ndim, dtype))
    if is_a(x, "dask.dataframe", "Series"):
        return x.map_partitions(compute, meta=(x.name, dtype))
    if is_a(x, "dask.dataframe", "DataFrame"):
        return x.map_partitions(compute, meta=dict.fromkeys(x.columns, dtype))
    if is_a(x, "xarray", "DataArray") and (later := lazily(x.data, compute, dtype)) is not None:
        return x.copy(data=later)
    if is_a(x, "polars", "Expr"):
        kind = loaded("polars", {"float64": "Float64", "uint8": "UInt8"}[dtype])
        return x.map_batches(compute, return_dtype=kind)
    return None


def _taken(x: Any) -> Taken:
    if isinstance(x, np.ndarray):
        return (*_unmasked(x), _same)
    if isinstance(x, list | tuple | range | deque | array):
        return _from_sequence(x)
    for take in (_of_pandas, _of_polars, _of_arrow, _of_xarray):
        if (found := take(x)) is not None:
            return found
    if _is_number(x):
        return (*_single(x), lambda a: a[()].item())
    if isinstance(x, memoryview):
        return (*_numeric(np.asarray(x)), lambda a: np.ascontiguousarray(a).data)
    if isinstance(x, str | bytes | bytearray):
        raise NumbersError(f"{type(x).__name__} ({x[:40]!r})", "a text is read with float()")
    if isinstance(x, Sequence):
        return _from_sequence(x)
    return _by_protocol(x)


def _same(a: AnyArray) -> AnyArray:
    return a


#: What an array of results becomes, by the kind of sequence that was passed.
_BACK: dict[type, Like] = {
    tuple: lambda a: tuple(a.tolist()),
    deque: lambda a: deque(a.tolist()),
    array: lambda a: array("d", a.astype(np.float64).tolist()),
}


def _from_sequence(x: Any) -> Taken:
    back = next((to for kind, to in _BACK.items() if isinstance(x, kind)), lambda a: a.tolist())
    try:
        values = np.asarray(x if isinstance(x, list | tuple | range | array) else list(x))
    except ValueError:
        raise NumbersError("rows of different lengths", expected="rows of one length") from None
    if isinstance(x, list | tuple) and bool in {*map(type, x)}:
        values = np.array([*x, None], dtype=object)[:-1]  # beside numbers, NumPy takes them for 1
    return (*_numeric(values), back)


def _single(x: Any) -> tuple[AnyArray, AnyArray | None]:
    if isinstance(x, int) and not -(2**63) <= x < 2**63:
        return np.asarray(np.inf if x > 0 else -np.inf), None  # beyond every converter in any case
    if _is_gone(x):
        return np.asarray(0.0), np.asarray(True)
    return _numeric(np.asarray(x))


def _unmasked(a: AnyArray) -> tuple[AnyArray, AnyArray | None]:
    if not is_a(a, "numpy.ma", "MaskedArray"):
        return _numeric(a)
    numbers, missing = _numeric(np.ma.getdata(a))
    masked: AnyArray = np.ma.getmaskarray(a)
    return numbers, masked if missing is None else masked | missing


def _numeric(a: AnyArray) -> tuple[AnyArray, AnyArray | None]:
    """Numbers in an array, and where an object says that there is none."""
    if a.dtype.kind in "iu":
        return a if a.dtype.isnative else a.astype(a.dtype.newbyteorder("=")), None
    if a.dtype.kind == "f":
        return a.astype(np.float64, copy=False), None
    if a.dtype.kind == "O":
        missing = np.array([_is_gone(v) for v in a.flat], np.bool_).reshape(a.shape)
        there = a[~missing]
        if all(_is_number(v) for v in there):
            whole = bool(there.size) and all(isinstance(v, int | np.integer) for v in there)
            fits = whole and all(-(2**63) <= v < 2**63 for v in there)
            numbers = np.zeros(a.shape, np.int64 if fits else np.float64)
            numbers[~missing] = there.astype(numbers.dtype)
            return numbers, missing if missing.any() else None
        odd = next(v for v in there if not _is_number(v))
        raise NumbersError(f"{_KINDS.get(type(odd).__name__, 'objects')} ({odd!r})")
    example = repr(a.flat[0]) if a.size else a.dtype.name
    raise NumbersError(f"{_KINDS.get(a.dtype.kind, 'objects')} ({example})")


def _is_number(x: object) -> bool:
    numbers = int | float | np.integer | np.floating | Decimal | Fraction
    return _is_gone(x) or (isinstance(x, numbers) and not isinstance(x, bool | np.bool_))


def _is_gone(x: object) -> bool:
    """Whether something says that there is no value: None, pandas' NA, what is masked."""
    return x is None or is_a(x, "numpy.ma.core", "MaskedConstant") or x is loaded("pandas", "NA")


_KINDS = {
    "U": "text",
    "S": "bytes",
    "b": "truth values",
    "c": "complex numbers",
    "M": "dates",
    "m": "lengths of time",
    "str": "text",
    "bool": "truth values",
    "complex": "complex numbers",
}


# Series and frames.


def _of_pandas(x: Any) -> Taken | None:
    series, index, frame = (loaded("pandas", name) for name in ("Series", "Index", "DataFrame"))
    if series is not None and isinstance(x, series):
        return (*_pandas_values(x), lambda a: series(a, index=x.index, name=x.name))
    if index is not None and isinstance(x, index):
        return (*_pandas_values(x), lambda a: index(a, name=x.name))
    if frame is not None and isinstance(x, frame):
        columns = [(name, x.iloc[:, i]) for i, name in enumerate(x.columns)]
        numbers, missing = _stacked(x.shape, columns, _pandas_values)
        return numbers, missing, lambda a: frame(a, index=x.index, columns=x.columns)
    if is_a(x, "pandas.api.extensions", "ExtensionArray"):
        return (*_pandas_values(x), sys.modules["pandas"].array)
    return None


def _pandas_values(x: Any) -> tuple[AnyArray, AnyArray | None]:
    if isinstance(x.dtype, np.dtype):
        return _numeric(x.to_numpy())
    missing = np.asarray(x.isna())
    kept = x[~missing]
    try:
        values = np.asarray(kept.to_numpy() if hasattr(kept, "to_numpy") else kept)
        numbers, _ = _numeric(values)
    except (TypeError, ValueError):
        example = f" ({next(iter(kept))!r})" if len(kept) else ""
        raise NumbersError(f"{x.dtype}{example}") from None
    whole = np.zeros(missing.shape, numbers.dtype)
    whole[~missing] = numbers
    return whole, missing if missing.any() else None


def _of_polars(x: Any) -> Taken | None:
    series, frame = loaded("polars", "Series"), loaded("polars", "DataFrame")
    if series is not None and isinstance(x, series):
        numbers, missing = _polars_values(x)
        return numbers, missing, lambda a: series(x.name, _with_nulls(a, missing))
    if frame is not None and isinstance(x, frame):
        columns = [(name, x[name]) for name in x.columns]
        numbers, missing = _stacked(x.shape, columns, _polars_values)

        def back(a: AnyArray) -> Any:
            gone = [None] * a.shape[1] if missing is None else missing.T
            named = zip(x.columns, a.T, gone, strict=True)
            return frame({name: _with_nulls(cells, where) for name, cells, where in named})

        return numbers, missing, back
    if is_a(x, "polars", "LazyFrame"):
        raise NumbersError("a LazyFrame", "collect() it, or give an expression of a column")
    return None


def _polars_values(x: Any) -> tuple[AnyArray, AnyArray | None]:
    if not x.dtype.is_numeric():
        raise NumbersError(f"{x.dtype} ({x[0]!r})" if len(x) else str(x.dtype))
    missing = x.is_null().to_numpy()
    return _numeric(x.fill_null(0).to_numpy())[0], missing if missing.any() else None


def _with_nulls(a: AnyArray, missing: AnyArray | None) -> Any:
    """Cells for Polars: what was null is null again."""
    if missing is None or not missing.any() or a.dtype.kind != "f":
        return a
    return [None if gone else value for value, gone in zip(a.tolist(), missing, strict=True)]


def _of_arrow(x: Any) -> Taken | None:
    pa = sys.modules.get("pyarrow")
    if pa is None or not hasattr(pa, "Table"):
        return None
    if isinstance(x, pa.Array | pa.ChunkedArray):
        return (*_arrow_values(x), partial(pa.array, from_pandas=True))
    if isinstance(x, pa.Table | pa.RecordBatch):
        columns = [(name, x.column(i)) for i, name in enumerate(x.schema.names)]
        numbers, missing = _stacked((x.num_rows, len(columns)), columns, _arrow_values)

        def back(a: AnyArray) -> Any:
            made = [pa.array(cells, from_pandas=True) for cells in a.T]
            return type(x).from_arrays(made, names=x.schema.names)

        return numbers, missing, back
    if isinstance(x, pa.Scalar):
        return (*_single(x.as_py()), lambda a: a[()].item())
    return None


def _arrow_values(x: Any) -> tuple[AnyArray, AnyArray | None]:
    pa = sys.modules["pyarrow"]
    if pa.types.is_dictionary(x.type):
        x = x.cast(x.type.value_type)
    kinds = pa.types
    if not any(is_kind(x.type) for is_kind in (kinds.is_integer, kinds.is_floating, kinds.is_null)):
        raise NumbersError(f"{x.type} ({x[0]})" if len(x) else str(x.type))
    missing = np.asarray(x.is_null())
    numbers = np.zeros(len(x)) if kinds.is_null(x.type) else np.asarray(x.fill_null(0))
    return _numeric(numbers)[0], missing if missing.any() else None


def _of_xarray(x: Any) -> Taken | None:
    if is_a(x, "xarray", "DataArray"):
        numbers, missing, _ = _taken(x.data)
        return numbers, missing, lambda a: x.copy(data=a)
    if is_a(x, "xarray", "Dataset"):
        names = ", ".join(map(str, x.data_vars))
        raise NumbersError("a Dataset", f"take one of its variables: {names}")
    return None


def _stacked(
    shape: tuple[int, ...],
    columns: Sequence[tuple[Any, Any]],
    values: Callable[[Any], tuple[AnyArray, AnyArray | None]],
) -> tuple[AnyArray, AnyArray | None]:
    """The columns of a frame side by side, and where they have no value."""
    found, gone = [], []
    for name, column in columns:
        try:
            numbers, missing = values(column)
        except NumbersError as error:
            place = f"column {name!r}"
            raise NumbersError(error.found, expected="numbers", place=place) from None
        found.append(numbers)
        gone.append(np.zeros(shape[0], np.bool_) if missing is None else missing)
    if not found:
        return np.empty(shape), None
    return np.stack(found, axis=1), np.stack(gone, axis=1)


def _by_protocol(x: Any) -> Taken:
    """What speaks a protocol for numbers: Arrow's, NumPy's, that of buffers, or of frames."""
    if any(hasattr(x, f"__{name}__") for name in ("arrow_c_stream", "arrow_c_array", "dataframe")):
        found = _of_arrow(OUTER.arrow(x))
        if found is not None:
            return found
    if hasattr(x, "__array__") or hasattr(x, "__array_interface__"):
        return (*_numeric(np.asarray(x)), _same)
    try:
        return (*_numeric(np.asarray(memoryview(x))), _same)
    except TypeError:
        hint = "take its values() as a list" if isinstance(x, dict) else ""
        hint = hint or ("make it a list" if hasattr(x, "__iter__") else "")
        raise NumbersError(f"{type(x).__name__}", hint) from None
