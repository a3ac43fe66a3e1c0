"""Made-up logs of four channels, and the bench that reads them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv
import pyarrow.parquet as pq

CHANNELS = range(4)

BENCH = "[converter]\nbits = 12\nvref = 3.3\n" + "".join(
    f'[channel.c{i}]\ncolumn = "ch{i}"\ndecimals = 1\n'
    'laws = [{ law = "line", marks = [[198, 0], [3904, 100]], unit = "%" },'
    ' { law = "clamp", low = 0, high = 100 }]\n'
    for i in CHANNELS
)

ROWS = 2**20


def tables(rows: int) -> list[pa.Table]:
    """Rows in pieces; the same for every format."""
    random = np.random.RandomState(2)
    made = []
    for start in range(0, rows, ROWS):
        n = min(ROWS, rows - start)
        columns = {f"ch{i}": random.randint(0, 4096, n).astype(np.int16) for i in CHANNELS}
        made.append(pa.table({"time_s": np.round((start + np.arange(n)) / 5, 1)} | columns))
    return made


def csv_log(path: Path, rows: int) -> None:
    """A CSV log."""
    options = pacsv.WriteOptions(quoting_style="none")
    found = tables(rows)
    with pacsv.CSVWriter(path, found[0].schema, write_options=options) as writer:
        for table in found:
            writer.write_table(table)


def parquet_log(path: Path, rows: int) -> None:
    """A Parquet log."""
    found = tables(rows)
    with pq.ParquetWriter(path, found[0].schema) as writer:
        for table in found:
            writer.write_table(table)
