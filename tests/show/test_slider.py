"""The ruler to slide, in the system's own browser: its texts at every stop are the tool's."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import Any

import numpy as np
import pytest

import jetruler as jr
from jetruler.show.slider import columns, slider, stops
from tests.helpers.browser import browser, needs_browser
from tests.helpers.sizes import few, soak

__all__ = ["browser"]

KNOB = jr.Line(marks=((30, -5), (990, 105)), unit="%")
LINE = jr.Line(marks=((0, 0), (65535, 100)), unit="%")
CHANNELS = {
    "bean": jr.Channel(
        "bean",
        jr.Adc(12, 3.3)
        >> jr.Divider(jr.Toleranced(4700, 47))
        >> jr.Beta(jr.Toleranced(1e5, 3e3), 3950),
        "ch0",
        decimals=1,
        limits=(0, 260),
    ),
    "knob": jr.Channel(
        "knob",
        jr.Counts(10) >> jr.Line(marks=((30, -5), (990, 105)), unit="%") >> jr.Clamp(0, 100),
        1,
    ),
    "tray": jr.Channel(
        "tray", jr.Counts(8) >> jr.Zones((80, 160), ("full", "filling", "empty")), 2
    ),
    "wide": jr.Channel("wide", jr.Counts(16) >> LINE, 3, decimals=2),
    "box": jr.Channel(
        "box", jr.Ruler((jr.Input("V", range=(0, 10)), jr.Line(gain=2.0, unit="bar"))), 4
    ),
}


@few
@pytest.mark.parametrize("name", CHANNELS)
def test_texts_are_those_of_the_tool(name: str) -> None:
    channel = CHANNELS[name]
    raw = stops(channel)
    texts = columns(channel, raw)
    assert 2 <= raw.size <= 4098
    assert (raw[0], raw[-1]) == (channel.ruler.edge.lowest, channel.ruler.edge.highest)  # type: ignore[union-attr]
    if name != "wide" and name != "box":
        assert np.array_equal(raw, np.arange(raw.size))  # every count
    for i in range(0, raw.size, 37):
        trace = channel.ruler.trace(float(raw[i]))
        assert texts["value"][i] == channel.shown(trace.reading.value)
        assert channel.shown(trace.reading.value) in channel.shown(channel.ruler(raw[i]))


@pytest.mark.parametrize("name", ["bean", "wide"])
def test_half_widths_are_those_of_the_budget(name: str) -> None:
    channel = CHANNELS[name]
    counts = np.array([500.0, 2048.0, 3500.0])
    for text, count in zip(columns(channel, counts).get("±, 95 %", []), counts, strict=False):
        wide = jr.budget(channel, count).expanded_uncertainty
        assert float(text.split()[0]) == pytest.approx(wide, rel=0.06)


def test_it_is_small_and_loads_nothing() -> None:
    whole, other = slider(CHANNELS["bean"]), slider(CHANNELS["bean"], script=False)
    assert len(whole) - len(other) < 15_000
    assert "http" not in whole.replace("http://www.w3.org", "")
    assert "<script" not in other


def test_a_ruler_without_ends_is_a_sentence() -> None:
    free = jr.Channel("free", jr.Ruler((jr.Input("V"),)), 1)
    assert slider(free).startswith("<p>")


def opened(browser: Any, home: Path, name: str) -> Any:
    wait: Any = import_module("selenium.webdriver.support.ui").WebDriverWait
    page = home / f"{name}.html"
    page.write_text(f"<!DOCTYPE html><meta charset=utf-8>{slider(CHANNELS[name])}", "utf-8")
    browser.get(page.as_uri())
    wait(browser, 20).until(lambda b: b.find_elements("css selector", ".jet-on"))
    return browser.find_element("css selector", "input[type=range]")


ALL_STOPS = """
var range = document.querySelector("input[type=range]"), cells = document.querySelectorAll("dd");
var heads = Array.from(document.querySelectorAll("dt")).map(d => d.textContent), found = [];
for (var i = 0; i <= +range.max; i++) {
  range.value = i;
  range.dispatchEvent(new Event("input"));
  found.push(Array.from(cells).map(c => c.textContent));
}
return [heads, found];
"""


@soak
@needs_browser
@pytest.mark.xdist_group("browser")
@pytest.mark.parametrize("name", CHANNELS)
def test_every_stop_in_a_browser(browser: Any, tmp_path: Path, name: str) -> None:
    opened(browser, tmp_path, name)
    heads, found = browser.execute_script(ALL_STOPS)
    channel = CHANNELS[name]
    raw = stops(channel)
    assert len(found) == raw.size
    value = heads.index("value")
    for row, count in zip(found, raw.tolist(), strict=True):
        assert row[value] == channel.shown(float(channel.ruler(count)))
    if "flags" in heads:
        bits = np.asarray(channel.ruler.read(raw).flags)
        assert [row[heads.index("flags")] == "–" for row in found] == (bits == 0).tolist()


@soak
@needs_browser
@pytest.mark.xdist_group("browser")
def test_keys_typing_and_dragging(browser: Any, tmp_path: Path) -> None:
    webdriver: Any = import_module("selenium.webdriver")
    keys = webdriver.Keys
    channel = CHANNELS["bean"]
    handle = opened(browser, tmp_path, "bean")

    def counted() -> str:
        return str(browser.find_element("css selector", "dd").text)

    def value() -> str:
        return str(browser.find_element("css selector", ".jet-value").text)

    before = int(counted())
    handle.send_keys(keys.ARROW_RIGHT)
    assert int(counted()) == before + 1
    assert value() == channel.shown(float(channel.ruler(before + 1)))
    assert handle.get_attribute("aria-valuetext") == f"{counted()}: {value()}"
    raw, wanted = browser.find_elements("css selector", ".jet-ask input")
    raw.send_keys("1880", keys.ENTER)
    assert (counted(), value()) == ("1880", channel.shown(float(channel.ruler(1880))))
    wanted.send_keys("200", keys.ENTER)
    assert float(value().split()[0]) == pytest.approx(200, abs=0.2)
    drawing = browser.find_element("css selector", "svg")
    webdriver.ActionChains(browser).move_to_element(drawing).click_and_hold().move_by_offset(
        100, 0
    ).release().perform()
    box = drawing.rect["width"]
    expected = 2047.5 + 100 / (0.92 * box) * 4095
    assert int(counted()) == pytest.approx(expected, abs=20)
