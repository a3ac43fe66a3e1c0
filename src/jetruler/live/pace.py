"""How often samples come: what smoothing over a time needs to know before it can begin."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from ..core.arrays import Array
from ..samples.cells import Samples
from ..samples.stream_lines import Taken

#: Steps between samples that tell the usual one, and samples that are waited for at most.
ENOUGH, MOST = 8, 4096


def joined(parts: Sequence[Taken]) -> Taken:
    """Several as one."""
    if len(parts) == 1:
        return parts[0]
    columns = []
    for each in zip(*(part.columns for part in parts), strict=True):
        gaps = [np.zeros(len(c.counts), np.bool_) if c.missing is None else c.missing for c in each]
        columns.append(Samples(np.concatenate([c.counts for c in each]), np.concatenate(gaps)))
    return Taken(
        np.concatenate([part.at for part in parts]),
        pa.concat_arrays([part.texts for part in parts]),
        np.concatenate([part.times for part in parts]),
        columns,
    )


@dataclass
class Pace:
    """The usual time between samples: the median of the first steps, however they came in.

    interval: seconds, None while unknown; NaN where samples have no time of their own."""

    interval: float | None = None
    _steps: list[float] = field(default_factory=list)
    _last: float = float("nan")
    _seen: int = 0

    def add(self, times: Array) -> int:
        """The place from which on the pace is known, or as many as there are."""
        for place, time in enumerate(times.tolist()):
            if time > self._last:
                self._steps.append(time - self._last)
            self._last = time
            self._seen += 1
            if len(self._steps) == ENOUGH or self._seen > MOST:
                self.settle()
                return place
        return len(times)

    def settle(self) -> None:
        """Make do with what has been seen."""
        self.interval = float(np.median(self._steps)) if self._steps else float("nan")
