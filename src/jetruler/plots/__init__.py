"""Pictures. Every function takes a thing and, if wanted, a Matplotlib Axes, and returns the Axes.

In: a channel, a ruler, a survey, a fit, a comparison, a budget. Out: what is drawn on the Axes.
Read `on_axes.py` first, then `style.py` and the file named after the picture.
"""

from typing import Any

__all__ = [
    *("band", "calibration", "circuit", "comparison", "curve", "draws", "histogram"),
    *("residuals", "ruler", "shares", "slope", "sources", "stages"),
]


def __getattr__(name: str) -> Any:
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from . import on_axes

    return getattr(on_axes, name)


def __dir__() -> list[str]:
    return __all__
