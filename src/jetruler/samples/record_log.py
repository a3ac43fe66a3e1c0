"""Records of a stream, as `live --record` writes them: each line behind the time it arrived."""

from __future__ import annotations

from dataclasses import replace

import pyarrow as pa

from .arrow import texts_to_arrow
from .head import CUT
from .text_log import BlockReader, Read
from .times import RECEIVED


class RecordBlocks(BlockReader):
    """Blocks of a record: the lines are read as the stream's were, and the times stand in the last
    column, so that the stream's own keep their numbers."""

    def __init__(self, inner: BlockReader) -> None:
        self.inner, self.shape = inner, inner.shape
        self.columns = [*inner.columns, RECEIVED]

    def ask(self, types: dict[int, pa.DataType]) -> None:
        """From one of the next blocks on, columns come in these types where they can."""
        times = len(self.columns) - 1
        self.inner.ask({place: kind for place, kind in types.items() if place != times})

    def read(self, block: bytes) -> Read:
        """The rows of a block."""
        stamps: list[bytes] = []
        lines: list[bytes] = []
        cut = CUT.encode()
        torn = 0
        for line in block.removesuffix(b"\n").split(b"\n"):
            stamp, _, rest = line.partition(b",")
            stamped = stamp.endswith(b"Z") and not line.startswith(b"#")
            is_torn = stamped and rest.rstrip(b"\r").endswith(cut)
            torn += is_torn
            stamps.append(stamp if stamped else b"")
            lines.append(b"#" if is_torn or not stamped else rest)
        found = self.inner.read(b"\n".join(lines) + b"\n")
        for _ in range(torn):
            found.noise.add("torn", "")
        batch = found.batch
        times = texts_to_arrow([stamps[number] for number in batch.lines.tolist()], pa.binary())
        columns = [*(batch.columns[i] for i in range(len(self.columns) - 1)), times]
        return replace(found, batch=replace(batch, columns=columns))
