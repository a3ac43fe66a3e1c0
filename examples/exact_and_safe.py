"""Nothing is changed and nothing is left running: cells that pass through a conversion, and a drive
whose board loses its clock."""

import tempfile
from pathlib import Path

import pyarrow.parquet as pq

import jetruler as jr

BENCH = """
[channel.damper]
column = "ch2"
converter = { bits = 12, vref = 3.3 }
laws = [{ law = "line", marks = [[198, 0], [3904, 100]], unit = "%" }]
decimals = 1

[drive.flap]
from = "damper"
marks = [[0, 1000], [100, 2000]]
range = "pulse"
safe = 2000
safe_flags = ["clock", "missing", "high_rail"]
"""

LOG = """\
batch,code,serial,day,time_s,ch2
007,0x1F,18446744073709551615,2026-11-23,0.00,198
008,0x2A,9007199254740993,2026-11-24,0.20,2051
012,12E3,1,2026-11-25,0.40,3904
"""

bench = jr.parse_bench(BENCH)
with tempfile.TemporaryDirectory() as home:
    log, out = Path(home, "log.csv"), Path(home, "out.parquet")
    log.write_text(LOG)
    summary = jr.convert(log, bench, out)
    table = pq.read_table(out)
    print("What passes through is held as the first type that gives every cell back:")
    for name, kind in summary.pass_through.items():
        print(f"  {name:<7} {kind:<8} {table[name].to_pylist()}")

# A board that sends 20 samples a second; after the third second its clock stands still.
print("\nA drive with safe_flags = ['clock'] while the board's time stands still:")
decisions = jr.Decisions(bench)
for i in range(120):
    sent, arrived = min(0.05 * i, 3.0), 0.05 * i
    reading = bench["damper"].read([2051])
    decided = decisions.add([sent], {"damper": reading}, arrivals=[arrived])
    if i % 20 == 0:
        state = "safe" if decided.safe["flap"][0] else "follows"
        why = f"the time {decisions.clock.why}" if decisions.clock.why else ""
        print(f"  {arrived:3.0f} s: flap={decided.drives['flap'][0]:.0f}, {state} {why}".rstrip())
