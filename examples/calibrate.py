"""A bath, a law fitted to it, and two sensors that then agree."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bench = jr.load_bench("bench.toml")
bean, bean2 = bench["bean"], bench["bean2"]

pairs = jr.read_pairs("rest.csv", bean, bean2)
print(jr.compare(pairs.a, pairs.b, unit="degC", resolution=0.1, names=("bean", "bean2")))
print()

# Five temperatures in a stirred bath say which of the two is off, and by how much.
found = jr.calibrate(bean, jr.read_marks("bath.csv"))
print(found)
print()

pairs = jr.read_pairs("rest.csv", found.calibrated, bean2)
print(jr.compare(pairs.a, pairs.b, unit="degC", resolution=0.1, names=("bean", "bean2")).sentence)

before, after = jr.write_calibration("bench.toml", found)
print(f"- {before}\n+ {after}")

# What the fit knows of r0 and Beta, and how they hang together, is now in every budget.
print(jr.budget(jr.load_bench("bench.toml")["bean"], 1880))
