"""Changing bench files: whatever way they are written, nothing else in them moves."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from jetruler import Line, Ruler, load_bench, write_correction
from jetruler.benchfile.edit import write_law
from jetruler.benchfile.load import parse_bench
from jetruler.errors import BenchError

LAWS = [
    '{ law = "line", gain = 2, unit = "%" }',
    '{law="line",marks=[[0,1],[4095,"3 bar"]]}',
    '{ law = "clamp", low = 0, high = 9 }',
    '{ law = "table", points = [[0, 1], [5, 2], [9, 7]], unit = "]" }',
    "{ law = 'pass-through' }",
    '{ law = "formula", expression = "x * 2 # no comment", unit = "}" }',
]
NOISE = ["", " ", "  # , ] } [channel.a]", "\t# laws = [", " # \"quoted' \\"]
MANY_LINES = 'about = """\nlaws = [\n  { law = "line", gain = 1 },\n]\n[channel.a]\n"""'
KEYS = [
    'about = "laws = [ { # ] }"',
    MANY_LINES,
    "decimals = 2",
    "limits = [0, 9] # [",
    "column = 'x'",
]


@st.composite
def benches(draw: Any) -> tuple[str, list[str]]:
    """A bench of three channels in an untidy hand; and the laws of the middle one."""
    texts, chosen = ["[converter]\nbits = 12\nvref = 3.3 # [[\n"], []
    for name in ("z", "a", "b"):
        head = draw(st.sampled_from([f"[channel.{name}]", f'[ channel . "{name}" ]']))
        keys = [draw(st.sampled_from(KEYS[:4])), KEYS[4]]
        # Texts do not stand on counts: the laws here are joined in any order without units.
        laws = draw(st.lists(st.sampled_from([LAWS[2], LAWS[4], LAWS[0]]), min_size=1, max_size=3))
        gap = draw(st.sampled_from(NOISE))
        if draw(st.booleans()):
            lines = [f"  {law},{draw(st.sampled_from(NOISE))}" for law in laws]
            listed = "\n".join([f"laws = [{gap}", *lines, "]"])
        else:
            listed = f"laws = [{', '.join(laws)}]{gap}"
        keys.insert(draw(st.integers(0, 2)), listed)
        texts.append("\n".join([head + gap, *keys]) + "\n\n")
        if name == "a":
            chosen = laws
    return "".join(texts), chosen


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(benches(), st.booleans(), st.integers(0, 2), st.booleans(), st.booleans())
def test_one_law_changes_and_nothing_else(
    tmp_path: Path, made: tuple[str, list[str]], replaces: bool, place: int, crlf: bool, bom: bool
) -> None:
    text, laws = made
    path = tmp_path / "bench.toml"
    mark = "\ufeff" if bom else ""
    path.write_bytes((mark + (text.replace("\n", "\r\n") if crlf else text)).encode())
    place = min(place, len(laws) - 1 if replaces else len(laws))
    old = tomllib.loads(text)
    channel = load_bench(path)["a"]
    new = '{ law = "line", gain = 1, offset = 0.5 }'
    laws_before = channel.chain.laws
    means = Ruler((*laws_before[: place + 1], Line(1.0, 0.5), *laws_before[place + 1 + replaces :]))
    change = write_law(
        str(path), channel, new, place + 1, replaces=replaces, means=means,
        calibration='"± 0.1 (k=1)"',
    )  # fmt: skip
    assert new in change.after
    after = path.read_bytes().decode()
    assert after.startswith(mark)
    after = after.removeprefix(mark)
    table = tomllib.loads(after)
    wanted = list(old["channel"]["a"]["laws"])
    wanted[place : place + replaces] = [{"law": "line", "gain": 1, "offset": 0.5}]
    assert table["channel"]["a"]["laws"] == wanted
    assert table["channel"]["a"].pop("calibration") == "± 0.1 (k=1)"
    table["channel"]["a"]["laws"] = old["channel"]["a"]["laws"]
    assert table == old
    assert after.count("\n") == after.count("\r\n") * (1 if crlf else 0) + after.count("\n") * (
        0 if crlf else 1
    )
    # Every line that was there is there still, if only as what it was.
    kept = after.replace("\r\n", "\n")
    for line in text.splitlines():
        law, _, comment = line.removeprefix("laws = ").partition("},")
        if line.startswith("laws = ["):
            law, _, comment = line.removeprefix("laws = ").partition("]")
        assert line in kept or (law.strip() in kept and comment.strip() in kept)
    if replaces:
        assert "# was: " in kept


BENCH = """[converter]
bits = 12
vref = 3.3
[channel.a]
column = "x"
laws = [
  { law = "line", gain = 2, takes = "V", unit = "bar" }, # the transmitter
  { law = "clamp", low = 0, high = 6 } # last
]
"""


def test_corrections_stand_before_the_clamp_and_join(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text(BENCH)
    write_correction(str(path), load_bench(path)["a"], Line(1.0, 0.5))
    assert '# the transmitter\n  { law = "line", gain = 1, offset = 0.5 },\n' in path.read_text()
    write_correction(str(path), load_bench(path)["a"], Line(2.0, 0.25))
    joined = load_bench(path)["a"]
    # 2 · (y + 0.5) + 0.25
    assert joined.chain(1000) == pytest.approx(2 * (2 * 1000 * 3.3 / 4095 + 0.5) + 0.25)
    assert len(joined.chain.laws) == 4
    assert path.read_text().count("# was: ") == 1


def test_a_law_that_does_not_fit_leaves_the_file(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text(BENCH)
    channel = load_bench(path)["a"]
    beta = '{ law = "beta", r0 = 1e4, beta = 3435 }'
    with pytest.raises(BenchError, match="line gives bar, but beta"):
        write_law(str(path), channel, beta, 2, replaces=False, means=channel.chain)
    otherwise = '{ law = "line", gain = 2, offset = 1 }'
    with pytest.raises(BenchError, match=r"would give other values; add this yourself: \{ law"):
        write_law(str(path), channel, otherwise, 3, replaces=False, means=channel.chain)
    assert path.read_text() == BENCH
    assert sorted(p.name for p in tmp_path.iterdir()) == ["bench.toml"]
    path.unlink()
    with pytest.raises(BenchError, match="cannot be read"):
        write_correction(str(path), channel, Line(1.0, 0.5))


def test_a_channel_without_laws_gets_a_list(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    path.write_text('[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "x"\nlaws = []\n')
    write_correction(str(path), load_bench(path)["a"], Line(1.0, 0.5))
    assert parse_bench(path.read_text())["a"].chain(0) == 0.5


def test_a_channel_without_a_list_gets_one(tmp_path: Path) -> None:
    path = tmp_path / "bench.toml"
    head = '[converter]\nbits = 12\nvref = 3.3\n[channel.a]\ncolumn = "x" # the pin\n'
    path.write_text(head + "\n# the next\n[channel.b]\ncolumn = 2\n")
    write_correction(str(path), load_bench(path)["a"], Line(1.0, 0.5))
    line = '{ law = "line", gain = 1, offset = 0.5, takes = "V" }'
    assert path.read_text().startswith(f"{head}laws = [\n  {line},\n]\n\n# the next")
