"""Edges, ties and units: what is exactly at an edge is at it, ties go away from zero, and a value
keeps the unit that its author wrote."""

import jetruler as jr

BENCH = """
[channel.vacuum]
column = "a"
converter = { bits = 16, vref = "3.3 V" }
laws = [
  { law = "shunt", ohms = "150R" },
  { law = "expect", low = "3.6 mA", high = "21 mA" },
  { law = "line", marks = [["4 mA", 0], ["20 mA", "250 Pa"]] },
]
limits = ["0 Pa", "2.4 mbar"]
noise = "0.2 mV"

[trip.clogged]
any = [{ channel = "vacuum", above = "2 mbar" }]

[drive.blower]
from = "vacuum"
marks = [["0 Pa", "20 %"], ["250 Pa", "100 %"]]
safe = "20 %"
"""

bench = jr.parse_bench(BENCH)
vacuum = bench["vacuum"]
print(f"limits {vacuum.limits} Pa, noise {vacuum.noise:.3g} counts, trip {bench.trips['clogged']}")
print(f"blower: {bench.drives['blower'].marks}, safe {bench.drives['blower'].safe:g}")
print(vacuum.trace(35_000))

loop = jr.Counts(16) >> jr.Line.through((5000, 4), (25000, 20), unit="mA")
sound = loop >> jr.Expect(low=3.6)
print(f"\n4500 is {loop(4500)!r} mA and sound: {sound(4500)!r}")
other_way = jr.Counts(16) >> jr.Line.through((25000, 20), (5000, 4), unit="mA") >> jr.Expect(3.6)
print(f"with the marks the other way round: {other_way(4500)!r}")

half = jr.Channel("half", jr.Counts(8, signed=True) >> jr.Line(0.5), 1, decimals=0)
print("\nties:", [half.cell(half(n)) for n in (1, 3, 5, -1, -3)])
whole = half.chain >> jr.Whole()
print("whole:", [jr.Channel("w", whole, 1).cell(whole(n)) for n in (1, 3, 5, -1, -3)])
