"""A log of raw counts through a bench file, from Python: what `jetruler convert` does."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bench = jr.load_bench("bench.toml")
summary = jr.convert("roast.csv", bench, "out.csv")

for name, found in summary.channels.items():
    print(f"{name:8} {found.smallest:8.3f} … {found.largest:8.3f}  {found.flags}")
for note in summary.notes():
    print(note)
