"""One meter, one thermometer: spot checks, single parameters, and errors that all marks share."""

import os
from dataclasses import replace

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bench = jr.load_bench("bench.toml")
bean, rail = bench["bean"], bench["rail"]

# Is the channel near enough at one temperature that somebody has measured?
print(jr.spot_check(bean, [(1880, 121.0)], within=0.5))
print()

# A meter shows 11.90 V at the supply. One mark finds one parameter; all others stay.
meter = replace(jr.Marks.of([(3400, 11.90)]), true_unit="V", u_common=0.02)
found = jr.adjust(rail, meter, ["upper"])
print(found)
print()
before, after = jr.write_parameters("bench.toml", found)
print(f"- {before}\n+ {after}")
print()

# All marks of the bath hang on one thermometer. What it is off by is in no residual.
bath = jr.read_marks("bath.csv")
for u_common in (0.0, 0.1):
    fit = jr.calibrate(bean, replace(bath, u_common=u_common)).fit
    print(f"thermometer known to {u_common} °C: ± {fit.interval(1880)[0]:.3f} °C at 95 %")
