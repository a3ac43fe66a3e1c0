"""The system's own browser, driven without a window."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from importlib import import_module
from typing import Any

import pytest

BROWSER, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
needs_browser = pytest.mark.skipif(
    not BROWSER or not DRIVER, reason="there is no chromium with its chromedriver"
)


@pytest.fixture(scope="module")
def browser() -> Iterator[Any]:
    """A browser with a window of 1280 × 800."""
    webdriver: Any = import_module("selenium.webdriver")
    options = webdriver.ChromeOptions()
    options.binary_location = BROWSER or ""
    for argument in ("headless=new", "no-sandbox", "disable-gpu", "disable-dev-shm-usage"):
        options.add_argument(f"--{argument}")
    options.add_argument("--window-size=1280,800")
    service = webdriver.ChromeService(executable_path=DRIVER)
    try:
        found = webdriver.Chrome(options=options, service=service)
    except import_module("selenium.common.exceptions").WebDriverException as error:
        pytest.skip(f"the browser does not start: {error}")
    with found:
        yield found
