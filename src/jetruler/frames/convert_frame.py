"""Whole frames through a bench: the same readings as a log's, as columns of the like frame."""

from __future__ import annotations

from typing import Any

from ..core.model.channel import Bench
from ..logs.options import FrameOptions
from .frame_conversion import FrameConversion
from .kinds import is_a


def convert_frame(bench: Bench, frame: Any, **options: Any) -> Any:
    """Convert a frame of counts into the like frame of values: `Bench.convert`."""
    wanted = FrameOptions(**options)
    if is_a(frame, "dask.dataframe", "DataFrame"):
        from .lazy import convert_lazily

        return convert_lazily(bench, frame, wanted)
    return FrameConversion(bench, frame, wanted).converted()
