"""`check`: every rule by its own good and bad example, and through the installed command."""

from __future__ import annotations

import json
import runpy
import shutil
from pathlib import Path
from typing import Any

import pytest

from jetruler.benchfile.load import parse_bench
from jetruler.core.check.check import check
from jetruler.core.result import Severity
from tests.conftest import Cli
from tests.helpers.sizes import thinned
from tests.helpers.typed_changes import typed

ROOT = Path(__file__).parents[2]
BUILD: dict[str, Any] = runpy.run_path(str(ROOT / "docs/build_checks.py"))
EXAMPLES: dict[str, dict[str, Any]] = BUILD["examples"]()
RULES = [BUILD["description"](rule) for rule in (*BUILD["OF_BENCH"], *BUILD["OF_LOG"])]


def test_every_rule_has_its_examples() -> None:
    assert {rule.name for rule in RULES} == set(EXAMPLES)
    for rule in RULES:
        assert rule.finds.endswith(".")
        assert rule.why.endswith(".")


@pytest.mark.parametrize("name", EXAMPLES)
def test_the_bad_example_is_found_and_the_good_one_is_not(name: str) -> None:
    bad = [f for f in BUILD["findings"](EXAMPLES[name], "bad").flat if f.rule == name]
    assert len(bad) >= 1
    assert all(
        f.where.startswith(("channel.", "trip.", "drive.")) and f.what and f.remedy and f.why
        for f in bad
    )
    assert not [f for f in BUILD["findings"](EXAMPLES[name], "good").flat if f.rule == name]


#: Rules whose remedy is nothing that a bench file says, and why.
BY_HAND = {
    "floating-input": "a wire",
    "unknown-range": "a number of the datasheet",
    "overflowing-product": "the firmware's own arithmetic",
    "flickering-trip": "how a trip turns is seen by walking the log again",
    "unexpected-value": "the laws or the row, as somebody knows",
}


@pytest.mark.parametrize("name", thinned(EXAMPLES, 2))
def test_a_remedy_that_is_typed_clears_its_finding_and_raises_none(name: str) -> None:
    example = EXAMPLES[name]
    before = BUILD["findings"](example, "bad")
    (change,) = {f.change for f in before if f.rule == name}
    assert (not change) == (name in BY_HAND)
    if not change:
        return
    after = BUILD["findings"](
        example | {"bad_text": typed(BUILD["text"](example, "bad"), change)}, "bad"
    )
    rules = {(f.rule, f.where.split("[")[0]) for f in after.flat}
    assert name not in {rule for rule, _ in rules}
    assert rules <= {(f.rule, f.where.split("[")[0]) for f in before.flat}


def test_the_page_of_checks_is_made_from_the_rules() -> None:
    assert (ROOT / "docs/checks.md").read_text("utf-8") == BUILD["page"](), (
        "run python docs/build_checks.py"
    )


#: What the bench with a dozen mistakes must be found to have, by place.
DOZEN = {
    "channel.pressure.laws[1 line].marks": "above-reference",
    "channel.bean.laws[1 divider].known": "unit-slip",
    "channel.exhaust.laws[1 divider].known": "far-resistor",
    "channel.exhaust.dissipation": "self-heating",
    "channel.exhaust.decimals": "coarse-step",
    "channel.room.laws[1 divider].supply": "reference-would-cancel",
    "channel.room.laws[2 beta].beta": "unlikely-thermistor",
    "channel.damper.laws[1 line].marks": "outside-marks",
    "channel.flap.laws[2 clamp]": "misplaced-clamp",
    "channel.rail.limits": "limits-out-of-reach",
    "channel.tray.converter.count_at_vref": "top-counts-disagree",
    "channel.level.laws[2 zones].edges": "narrow-zones",
    "channel.blower.laws[2 whole].rounding": "rounding-misses-top",
    "channel.blower.laws[1 line].marks": "overflowing-product",
}


def test_a_dozen_mistakes(cli: Cli, home: Path) -> None:
    shutil.copy(ROOT / "examples/findings.toml", home)
    done = cli("check", "-b", "findings.toml", "--json")
    assert done.returncode == 1
    found = json.loads(done.stdout)["findings"]
    places = {(one["where"], one["rule"]) for f in found for one in (f, *f["explains"])}
    assert places >= set(DOZEN.items())
    order = [f["severity"] for f in found]
    assert order == sorted(order, key=["error", "warning", "note"].index)
    shown = cli("check", "-b", "findings.toml")
    assert shown.returncode == 1
    assert (
        "4.5 V at the pin, and the reference is 3.3 V: everything above reads 7 bar" in shown.stdout
    )
    assert "5 errors" in shown.stdout.splitlines()[-1]


def test_nothing_in_the_demo(cli: Cli) -> None:
    done = cli("check")
    unjudged = "tray: not checked for lack of noise: whether its decisions flicker\n"
    *rows, said = done.stdout.partition(unjudged)
    assert (done.returncode, said) == (0, "bench.toml: nothing found in 8 channels\n")
    assert rows[1]
    assert "4 of 4 expected rows hold" in rows[0]
    logged = cli("check", "--log", "roast.csv")
    assert logged.returncode == 1  # the loose connector
    assert "is on its high rail (4095) for 10 samples" in logged.stdout
    assert "(look)" in logged.stdout
    assert "laws[" not in logged.stdout  # nothing between the bench and the log


def test_what_could_not_be_judged_is_said_and_is_no_finding() -> None:
    text = (
        '[channel.a]\ncolumn = "x"\nconverter = { bits = 12, vref = "3.3 V" }\n'
        'laws = [{ law = "divider", known = "10 kohm" }, '
        '{ law = "beta", r0 = "10 kohm", beta = 3435 }]\n'
        '[trip.t]\nany = [{ channel = "a", above = 50 }]\n'
    )
    found = check(parse_bench(text))
    assert not found
    assert list(found.unjudged) == ["a"]
    assert "limits: whether it reaches them" in found.unjudged["a"]
    assert "whether its resistor fits" in found.unjudged["a"]
    assert "noise: whether its decisions flicker" in found.unjudged["a"]
    assert found.to_dict()["unjudged"] == found.unjudged
    whole = text.replace("[trip.t]", "limits = [0, 100]\nnoise = 1.2\n[trip.t]")
    assert not check(parse_bench(whole)).unjudged


def test_only_errors_end_with_1(cli: Cli, home: Path) -> None:
    bench = (home / "bench.toml").read_text()
    (home / "bench.toml").write_text(bench.replace('known = "2k2', 'known = "2M2'))
    done = cli("check")
    assert (done.returncode, "1 error" in done.stdout) == (1, True)
    assert "channel.exhaust.laws[1 divider].known (unit-slip)" in done.stdout
    (home / "bench.toml").write_text(bench.replace("limits = [0, 250]", "limits = [-40, 250]"))
    done = cli("check")
    assert done.returncode == 0
    assert "−40 Pa is never crossed" in done.stdout


ADC = '{ law = "adc", bits = 10, vref = 3.3 }, '


def test_places_count_as_the_bench_file_does() -> None:
    text = f'[channel.a]\ncolumn = "x"\nlaws = [{ADC}'
    text += '{ law = "divider", known = 4700, supply = 3.3 }]\n'
    for bench, place in ((text, 2), (text.replace(ADC, ""), 1)):
        converter = "" if bench == text else "[converter]\nbits = 10\nvref = 3.3\n"
        (found,) = check(parse_bench(converter + bench))
        assert found.where == f"channel.a.laws[{place} divider].supply"
        assert found.severity is Severity.WARNING
    with pytest.warns(DeprecationWarning, match="listed"):
        check(parse_bench(text), ["a"])


def test_the_command_counts_a_listed_converter(cli: Cli, home: Path) -> None:
    (home / "own.toml").write_text(
        '[channel.a]\ncolumn = "x"\nlaws = [{ law = "adc", bits = 10, vref = 3.3 }, '
        '{ law = "divider", known = 4700, supply = 3.3 }]\n'
    )
    assert "channel.a.laws[2 divider].supply" in cli("check", "-b", "own.toml").stdout


def test_a_column_that_is_gone(cli: Cli, home: Path) -> None:
    log = (home / "roast.csv").read_text().replace("ch4", "pressure", 1)
    (home / "roast.csv").write_text(log)
    done = cli("check", "--log", "roast.csv")
    assert done.returncode == 1
    assert "channel.draught.column (missing-column)" in done.stdout
    assert "is on its high rail" in done.stdout  # the others are looked at all the same
    assert cli("check", "--log", "none.csv").returncode == 2
    assert cli("check", "-b", "none.toml").returncode == 2
