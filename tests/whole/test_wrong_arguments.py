"""Anything at all in any place of a public call: an answer, or an error of ours that names it."""

from __future__ import annotations

import inspect
import io
import random
import warnings
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd
import pytest

import jetruler as jr
from jetruler import demo

from ..helpers.sizes import sizes

BEAN = jr.Adc(12, 3.3) >> jr.Divider("10 kohm") >> jr.Beta("100 kohm", 3950)
BENCH = jr.Bench("Roaster", [jr.Channel("bean", BEAN, column="ch0")])
ANYTHING: list[Any] = [
    *(None, True, 0, 1, -3, 2.5, float("nan"), float("inf"), 1e300, 10**30, 1j),
    *("", "bean", "4k7", "25 degC", "±", "bench.toml", "nope.csv", "rest.csv", b"12", Path("x")),
    *([], [1, 2, 3], ["a"], [[1, 2], [3, 4]], (1, 2), range(5), set(), {}),
    *({"raw": [1, 2], "true": [2, 3]}, np.array([1.0, 2.0, 3.0]), np.array([]), np.zeros((2, 3))),
    *(np.array(["a"]), pd.Series([1, 2, None]), pd.DataFrame({"a": [1, 2]}), io.StringIO("a")),
    *(BENCH, BENCH["bean"], BEAN, jr.Divider(4700.0), jr.Smoothing("mean", 3), jr.Flag.ABOVE),
    *(object(), int, len, lambda x: x),
]
#: Those that write files or read until something ends; `Law` is abstract,
#: `Flag` takes what makes a new enumeration as well.
LEFT_OUT = {"Live", "stream", "convert", "convert_all", "report", "Law", "Flag", "JetRulerError"}
CALLS = [
    getattr(jr, name)
    for name in jr.__all__
    if name not in LEFT_OUT and not name.startswith("write") and callable(getattr(jr, name))
]


def made_up_call(seed: int) -> tuple[Any, list[Any], dict[str, Any]]:
    """A public function or class, something for each argument it needs, and a quarter of others."""
    rng = random.Random(seed)
    function = rng.choice(CALLS)
    places = inspect.signature(function).parameters.values()
    args, options = [], {}
    for place in places:
        if place.kind in (place.VAR_POSITIONAL, place.VAR_KEYWORD):
            continue
        if place.default is place.empty and place.kind is not place.KEYWORD_ONLY:
            args.append(rng.choice(ANYTHING))
        elif place.default is place.empty or rng.random() < 0.25:
            options[place.name] = rng.choice(ANYTHING)
    return function, args, options


@pytest.mark.parametrize("many", sizes(150, 5000))
def test_random_calls_end_in_an_answer_or_in_an_error_of_ours(
    many: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    demo.unpack(tmp_path)
    monkeypatch.chdir(tmp_path)
    refused = 0
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for seed in range(many):
            function, args, options = made_up_call(seed)
            try:
                function(*args, **options)
            except jr.JetRulerError as error:
                refused += bool(str(error))
            except Exception as error:  # what must never come out
                pytest.fail(f"{function.__name__}(*{args}, **{options}) gives {error!r}")
    assert refused > 0.6 * many


@pytest.mark.parametrize(
    ("name", "args", "sentence"),
    [
        ("smooth", ([1, 2], "x"), "smoothing: expected Smoothing, found str ('x')"),
        ("parse_bench", (range(5),), "text: expected str, found range (range(0, 5))"),
        ("how_many", (3, [1, 2]), "target: expected float, found list ([1, 2])"),
        ("LogFormat", (2.5,), "delimiter: expected str | None, found float (2.5)"),
        ("look", ("x", (1, 2)), "bench: expected a bench, a bench file's path, or an open file"),
        ("Trip", ({1}, 2), "name: expected str, found set ({1})"),
        ("value_table", (BEAN, {}), "every: expected float | str | None, found dict ({})"),
        ("Flag", ("a",), "flag: expected a Flag or a number of flags, found 'a'"),
        ("Toleranced", ("a", 1), "value: expected float, found str ('a')"),
    ],
)
def test_the_argument_of_another_kind_is_named(
    name: str, args: tuple[Any, ...], sentence: str
) -> None:
    with pytest.raises(jr.errors.KindError) as caught:
        getattr(jr, name)(*args)
    assert str(caught.value).startswith(sentence)
