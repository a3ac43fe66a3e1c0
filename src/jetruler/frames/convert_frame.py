"""Whole frames through a bench: the same readings as a log's, as columns of the like frame."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ..core.model.channel import Bench
from .frame_conversion import FrameConversion, Options
from .kinds import is_a


def convert_frame(
    bench: Bench,
    frame: Any,
    *,
    only: Iterable[str] = (),
    keep_raw: bool = False,
    uncertainty: bool = False,
    decide: bool = False,
) -> Any:
    """A frame of counts into the like frame of values: `Bench.convert`, which says the rest."""
    options = Options(tuple(only), keep_raw, uncertainty, decide)
    if is_a(frame, "dask.dataframe", "DataFrame"):
        from .lazy import convert_lazily

        return convert_lazily(bench, frame, options)
    return FrameConversion(bench, frame, options).converted()
