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


def other_logs(folder: Path, rows: int) -> dict[str, Path]:
    """CSV logs that are not of counts and seconds, by what is other about them."""
    counts = np.random.RandomState(3).randint(1000, 3000, rows)
    volts = [f"{1.5 + n / 1e7:.7f}" for n in counts.cumsum() % 1_000_000]
    seconds = [f"{i / 5:.1f}" for i in range(rows)]
    stamps = np.datetime64("2026-11-30") + np.arange(rows) * np.timedelta64(200, "ms")
    gaps = ["" if i % 10 == 3 else str(n) for i, n in enumerate(counts.tolist())]
    torn = [f"{n},7" if i % 1000 == 5 else str(n) for i, n in enumerate(counts.tolist())]
    columns = {
        "counts": (seconds, counts.tolist()),
        "volts with 7 decimals": (seconds, volts),
        "dates and times": (np.datetime_as_string(stamps).tolist(), counts.tolist()),
        "a gap in ten": (seconds, gaps),
        "a torn line in a thousand": (seconds, torn),
    }
    made = {}
    for i, (name, pair) in enumerate(columns.items()):
        made[name] = folder / f"other{i}.csv"
        lines = [f"{time},{cell}" for time, cell in zip(*pair, strict=True)]
        made[name].write_text("\n".join(["time,ch0", *lines, ""]))
    return made
