"""Computation only: NumPy and SciPy; no file, terminal, plot or frame library.

In: numbers, units, marks, surveys. Out: rulers, readings, findings, programs.
Read `ruler/ruler.py` first, then the room named after what you look for.
"""

from collections.abc import Callable
from typing import Any


class Outer:
    """What outer rooms do for the objects of core, which knows neither frames, nor HTML, nor
    pictures, nor languages. The package sets these; each loads its room when it is first called."""

    html: Callable[[object], str]
    text: Callable[[Any], str]
    frame: Callable[[object], Any]
    load_bench: Callable[[Any], Any]
    arrow: Callable[[object], Any]
    plot: Callable[..., Any]
    convert_frame: Callable[..., Any]
    code: Callable[[object, str, bool, str | None, bool], str]
    function: Callable[[object, str], list[str]]
    wrong_argument: Callable[[Any, Any, Any], Exception | None]
    save_code: Callable[[object, Any, bool, str | None, bool], None]


OUTER = Outer()
