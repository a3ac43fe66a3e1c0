"""An archive of logs and a frame through one bench: `jetruler convert logs -o archive`."""

import os
from pathlib import Path

import pandas as pd

import jetruler as jr
from jetruler import demo


def main() -> None:
    os.chdir(demo.unpack())  # a temporary folder with the demo's files
    bench = jr.load_bench("bench.toml")

    # A week of roasts, one of them cut off in the middle of a line.
    roast = Path("roast.csv").read_bytes()
    for day, data in {"monday": roast, "tuesday": roast[:60_000], "friday": b""}.items():
        log = Path("logs", "week1", f"{day}.csv")
        log.parent.mkdir(parents=True, exist_ok=True)
        log.write_bytes(data)

    fleet = jr.convert_all("logs", bench, "archive", out_kind="parquet", jobs=2)
    print(f"{len(fleet.done)} logs, {fleet.summary.rows} rows")
    for log, why in fleet.failed.items():
        print(f"{log.name} failed: {why.split(': ', 1)[1]}")
    for note in fleet.summary.notes():
        print(note)

    again = jr.convert_all("logs", bench, "archive", out_kind="parquet", resume=True)
    print(f"again: {len(again.skipped)} skipped, {len(again.failed)} failed")

    # The same numbers as a frame, in memory.
    values = bench.convert(pd.read_csv("roast.csv"))
    stored = pd.read_parquet("archive/week1/monday.parquet")
    print(f"the same to the last bit: {values['bean_degC'].equals(stored['bean_degC'])}")


if __name__ == "__main__":  # jobs are processes that load this file again
    main()
