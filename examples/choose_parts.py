"""Better parts for a sensor, and the mistakes in a bench."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bench = jr.load_bench("bench.toml")
choice = jr.choose_resistor(bench["bean"], 20, 240)
print(choice, end="\n\n")
print(choice.to_frame()[["known", "used", "resolution"]].head(), end="\n\n")
print(jr.choose_reference(0.3, 2.1, [1.1, 2.5, 3.3]), end="\n\n")
print(jr.choose_amplifier(0, 0.05, vref=3.3), end="\n\n")
print(jr.choose_averaging(bench["bean"], 0.05, at=220), end="\n\n")

print(len(jr.check(bench)), "mistakes in the demo's bench")
for finding in jr.check_log("roast.csv", bench):
    print(f"{finding.severity.name.lower():8}{finding.where}: {finding.what}")
