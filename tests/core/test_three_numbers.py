"""y = x · a / b + c: the best three numbers against trying all; what three given ones do."""

from __future__ import annotations

import json
import re
from pathlib import Path

import numpy as np
import pytest

import jetruler as jr
from jetruler.errors import ExportError, ParameterError
from tests.conftest import Cli
from tests.helpers.sizes import sizes, thinned


def every_three(
    counts: np.ndarray, target: np.ndarray, bits: int, product_bits: int, nearest: bool
) -> float:
    """The least worst error of all a, b and c, each tried."""
    limit = 2 ** (bits - 1)
    best = np.inf
    for b in range(1, limit):
        a = np.arange(-limit + 1, limit)[:, None]
        product = counts * a
        fits = np.all(np.abs(product) < 2 ** (product_bits - 1), axis=1)
        size = np.abs(product[fits])
        quotient = np.sign(product[fits]) * (
            np.floor(size / b + 0.5) if nearest else np.floor(size / b)
        )
        off = quotient - target
        high, low = off.max(axis=1), off.min(axis=1)
        for c in (np.floor(-(high + low) / 2), np.ceil(-(high + low) / 2)):
            c = np.clip(c, -limit, limit - 1)
            best = min(best, float(np.maximum(high + c, -(low + c)).min()))
    return best


@pytest.mark.parametrize("seed", thinned(range(40), 2))
def test_the_best_three_of_few_counts(seed: int) -> None:
    """Steep and flat lines, for which a or b alone would not fit the widths: all three do."""
    random = np.random.RandomState(seed)
    bits = int(random.choice([2, 3, 4, 5]))
    counts = jr.Counts(bits)
    ends = (0, float(random.uniform(-100, 100))), (counts.highest, float(random.uniform(-100, 100)))
    channel = jr.Channel("r", counts >> jr.Line.through(*ends), 1)
    product = int(random.choice([8, 9, 12]))
    found = jr.three_numbers(channel, scale=1, bits=8, product_bits=product)
    n = np.arange(2**bits)
    best = every_three(n, channel.ruler(n), 8, product, True)
    assert found.worst == pytest.approx(best, abs=1e-9), found.formula
    assert abs(found.a) < 128
    assert 1 <= found.b < 128
    assert -128 <= found.c < 128
    assert np.abs(n * found.a).max() < 2 ** (product - 1)


def test_two_counts_are_a_line() -> None:
    found = jr.three_numbers(jr.Counts(1) >> jr.Line(37, 5), scale=1)
    assert (found.worst, found.a // found.b, found.c) == (0.0, 37, 5)
    one = jr.Counts(1) >> jr.Line(37, 5) >> jr.Expect(10, 50)
    with pytest.raises(ExportError, match="it has counts without a value"):
        jr.three_numbers(one, scale=1)


def ranges(many: int) -> list[tuple[jr.Channel, int, int, bool]]:
    """Lines and curves over few counts, and the widths of a target."""
    random = np.random.RandomState(4)
    found = []
    for i in range(many):
        bits = int(random.choice([5, 6, 7, 8]))
        counts = jr.Counts(bits, signed=bool(random.rand() < 0.3))
        low, high = float(random.uniform(-50, 50)), float(random.uniform(-50, 50))
        ends = (counts.lowest, low), (counts.highest, high)
        laws = jr.Ruler.of(counts, jr.Line.through(*ends))
        if i % 5 == 0:
            laws = counts >> jr.Polynomial((low, 0.1, 1e-4), takes="count")
        word = int(random.choice([8, 9]))
        product = int(random.choice([word + 4, 2 * word]))
        found.append((jr.Channel(f"r{i}", laws, 1), word, product, bool(i % 2)))
    return found


@pytest.mark.parametrize("many", sizes(8, 50))
def test_the_best_three_of_all(many: int) -> None:
    for channel, word, product, nearest in ranges(many):
        found = jr.three_numbers(
            channel, scale=1, bits=word, product_bits=product,
            rounding="nearest" if nearest else "toward zero",
        )  # fmt: skip
        edge = channel.ruler.edge
        assert edge is not None
        counts = np.arange(int(edge.lowest), int(edge.highest) + 1)
        best = every_three(counts, channel.ruler(counts), word, product, nearest)
        assert found.worst == pytest.approx(best, abs=1e-9), (channel.ruler, found.formula)
        assert found.is_best


def test_what_given_numbers_do() -> None:
    """(300 − 21)·100/983 = 28; 983·100 = 98300 does not fit 16 bits, and −2.14 is cut to −2."""
    chain = jr.Counts(10) >> jr.Line.through((0, -2.14), (1023, 101.92), unit="%")
    channel = jr.Channel("k", chain, 1)
    found = jr.three_numbers(channel, scale=1, numbers=(100, 983, -2.14), product_bits=16)
    assert found.lost == "c = −2.14 is −2: 0.14 is cut off"
    assert found.overflows == ((328, 1023, "x * a does not fit 16 bits"),)
    assert found.worst > 30
    wide = jr.three_numbers(channel, scale=1, numbers=(100, 983, -2.14), product_bits=32)
    assert (wide.overflows, wide.worst < 1.2) == ((), True)
    assert wide.least <= wide.worst
    text = "\n".join(map(str, found.content))
    assert "counts 328 to 1023: x * a does not fit 16 bits" in text
    assert f"the best three numbers of these widths are off by {found.least:.3g} %" in text
    assert "no three numbers" not in text
    near = jr.three_numbers(channel, scale=1, numbers=(100, 983, -2), product_bits=32)
    assert (near.is_best, near.worst > near.least) == (False, True)


def test_each_stretch_that_overflows_is_named() -> None:
    """By hand: 100 · 328 and −100 · 328 do not fit 16 bits; 100 · 327 does."""
    chain = jr.Counts(12, signed=True) >> jr.Line(0.1, unit="mm")
    found = jr.three_numbers(
        jr.Channel("k", chain, 1), scale=1, numbers=(100, 1000, 0), product_bits=16
    )
    what = "x * a does not fit 16 bits"
    assert found.overflows == ((-2048, -328, what), (328, 2047, what))
    fits = jr.three_numbers(jr.Channel("k", chain, 1), scale=1, numbers=(100, 1000, 0))
    assert fits.overflows == ()


def test_a_clamp_is_not_in_it() -> None:
    chain = jr.Counts(12) >> jr.Line.through((198, 0), (3904, 100)) >> jr.Clamp(0, 100)
    found = jr.three_numbers(jr.Channel("k", chain, 1, decimals=1), product_bits=32)
    assert (found.first, found.last) == (198, 3904)
    assert found.beyond == ((0, -5.3, 0.0), (4095, 105.1, 100.0))
    a, b, c = found.a, found.b, found.c
    counts = np.arange(198, 3905)
    y = np.floor(counts * a / b + 0.5) + c
    assert np.abs(y / 10 - chain(counts)).max() == pytest.approx(found.worst, abs=1e-9)


def test_what_is_equal_is_said_to_be() -> None:
    found = jr.three_numbers(jr.Channel("n", jr.Counts(8) >> jr.Line(3, 5), 1), scale=1)
    assert found.headline == "y = x * 3 / 1 + 5: exact"


def test_of_a_wide_converter_every_count_is_run() -> None:
    cell = jr.Counts(20) >> jr.Line.through((1000, 0), (1_000_000, 20_000), unit="g")
    found = jr.three_numbers(jr.Channel("c", cell, 1), scale=1, bits=32)
    assert found.run == 2**20
    counts = np.arange(2**20)
    y = np.floor(counts * found.a / found.b + 0.5) + found.c
    assert np.abs(y - cell(counts)).max() == pytest.approx(found.worst, abs=1e-9)
    huge = jr.three_numbers(jr.Channel("c", jr.Counts(32) >> jr.Line(1e-6), 1), bits=32)
    assert "of 4294967296 run" in "\n".join(map(str, huge.content))


REFUSED = [
    (jr.Counts(8) >> jr.Zones((20,), ("a", "b")), {}, ExportError, "labels"),
    (jr.Counts(8) >> jr.Line(1), {"bits": 40}, ParameterError, "from 8 to 32"),
    (jr.Counts(8) >> jr.Line(1), {"rounding": "up"}, ParameterError, "one of nearest"),
    (jr.Counts(8) >> jr.Line(1), {"numbers": (1, 0, 2)}, ParameterError, "from 1 to 2147483647"),
    (jr.Counts(8) >> jr.Line(1), {"numbers": (1e30, 1, 2)}, ParameterError, "from -2147483647"),
    (jr.Counts(16) >> jr.Line(1), {"product_bits": 16}, ExportError, "a wider product does"),
    (jr.Counts(8) >> jr.Line(1), {"scale": 0}, ParameterError, "from 1 to 1000000"),
]


@pytest.mark.parametrize(("ruler", "asked", "error", "says"), REFUSED)
def test_what_cannot_be(
    ruler: jr.Ruler, asked: dict[str, object], error: type[Exception], says: str
) -> None:
    with pytest.raises(error, match=re.escape(says)):
        jr.three_numbers(jr.Channel("k", ruler, 1), **asked)  # type: ignore[arg-type]


def test_the_command(cli: Cli, home: Path) -> None:
    done = cli("export", "damper", "--to", "numbers")
    assert "damper: y = x * 79 / 293 - 53" in done.stdout
    assert "no three numbers of these widths have a smaller worst error" in done.stdout
    cut = cli("export", "damper", "--to", "numbers", "--cut", "--json")
    assert json.loads(cut.stdout)[0]["rounding"] == "toward zero"
    judged = cli("export", "damper", "--to", "numbers", "--numbers", "27,100,-53.4", "-o", "n.txt")
    assert judged.stdout == ""
    assert "c = −53.4 is −53: 0.4 is cut off" in (home / "n.txt").read_text()
    for wrong, says in (
        (("--numbers", "27,100"), "expected three numbers"),
        (("--threshold", "damper=3"), "expected no --threshold, found it"),
        (("--word", "99"), "bits: expected"),
    ):
        done = cli("export", "damper", "--to", "numbers", *wrong)
        assert (done.returncode, done.stdout) == (2, ""), wrong
        assert says in done.stderr
    assert cli("export", "damper", "--to", "c", "--cut").returncode == 2
