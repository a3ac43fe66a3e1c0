"""How far a reading can be trusted: its budget, checked by Monte Carlo, before and after a bath."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bean = jr.load_bench("bench.toml")["bean"]
for count in (3912, 400):
    print(jr.budget(bean, count), end="\n\n")
print(jr.simulate(bean, 400, draws=100_000), end="\n\n")

# Many raw readings: what their mean and standard deviation are worth in °C.
print(jr.propagate(bean.chain, mean=1880.3, std=1.4, n=16), end="\n\n")

# A calibration stands for the tolerances it saw.
jr.write_calibration("bench.toml", jr.calibrate(bean, jr.read_marks("bath.csv")))
print(jr.budget(jr.load_bench("bench.toml")["bean"], 400))
