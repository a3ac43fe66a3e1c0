"""Values that are in no column: power, a tilt, another unit; and a channel as a table."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

bench = jr.parse_bench("""
title = "Heater of the roaster bench"
[converter]
bits = 12
vref = "3.3 V ± 1 %"
[channel.u]
column = "u"
laws = [{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }]
[channel.i]
column = "i"
laws = [{ law = "shunt", ohms = "0.1 ohm ± 1 %" }]
[channel.bean]
column = "bean"
also = ["degF", "ohm"]
laws = [
  { law = "divider", known = "4k7 ± 1 %" },
  { law = "beta", r0 = "100 kohm", beta = 3950, t0 = "25 degC" },
]
decimals = 1
[channel.power]
from = ["u", "i"]
laws = [{ law = "formula", expression = "u * i", unit = "W" }]
decimals = 1
""")
for sample in jr.stream(["u,i,bean", "1880,900,1880", "4095,900,400"], bench):
    flagged = {name: str(flag) for name, flag in sample.flags.items() if flag}
    print({name: round(value, 1) for name, value in sample.values.items()}, flagged)

power = bench.derived["power"]
for trace in power.trace_from({"u": 1880, "i": 900}):
    print(trace)
print(jr.budget(power, {"u": 1880, "i": 900}), end="\n\n")

x = jr.Channel("x", jr.Input("m/s^2"), "ax")
z = jr.Channel("z", jr.Input("m/s^2"), "az")
tilt = jr.derived("tilt", [x, z], "atan2(x, z) * 180 / pi", "deg", decimals=1)
print("tilt:", tilt.shown(tilt.value_of({"x": 4.9, "z": 8.5})), end="\n\n")

print(jr.value_table(bench["bean"], every="40 degC", over=(300, 3800)), end="\n\n")
print(jr.budget(bench["bean"], 1880, joint="ohm").headline)
print(jr.choose_resistor(bench["bean"], seen={"green": 180, "roasted": 640}).gain)
