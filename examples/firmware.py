"""From the bench file to firmware: what each arithmetic costs, and the proof over every count."""

import jetruler as jr
from jetruler import demo

bench = jr.parse_bench(demo.read("bench.toml").decode())

for channel in bench.channels.values():
    try:
        made = jr.export(channel, channel.name, "int16")
    except jr.JetRulerError as error:  # says what could be done instead
        print(error)
        continue
    proof = made.proof
    print(f"{channel.name}: {made.kind}, off by at most {proof.worst:.3g} at count {proof.at}")

# The same conversion with less and less to keep.
for within in (0.1, 0.5, 2.0):
    made = jr.export(bench["bean"], "bean", within=within, inside_limits=True)
    print(f"within {within} °C: {made.program.table_bytes} bytes ({made.cheaper})")
print(made.program.body)

# What a chip makes of the formula when it is typed in as it is printed.
for int_bits in (16, 32):
    print(jr.naive(bench["damper"], 1880, "int16", int_bits=int_bits).headline)

# A load cell of 24 bits: every one of its counts is run.
ends = (-40_000, 0), (6_000_000, 20_000)
cell = jr.Counts(24, signed=True) >> jr.Line.through(*ends, unit="g")
made = jr.export(jr.Channel("cell", cell, 1, decimals=1))
print(f"cell: {made.kind}, {made.program.arith}, {made.proof.run} counts run")

# Ends that a panel may change, and a target that knows only y = x * a / b + c.
free = jr.export(bench["damper"], "damper", arguments={"lo": (0, 2000), "hi": (2200, 4095)})
print(f"damper{('n', *free.program.arguments)}: off by at most {free.proof.worst:.3g} %")
print(jr.three_numbers(bench["damper"]).headline)

# A whole result is equal at every count; a bound says what the cheaper form would cost.
knob = jr.Counts(12) >> jr.Line.through((198, 0), (3904, 255)) >> jr.Clamp(0, 255) >> jr.Whole()
duty = jr.Channel("duty", knob, "ch2")
for bound in (None, 1.0):
    made = jr.export(duty, "duty", "int16", within=bound)
    print(f"duty, within {bound}: {made.kind}, off by {made.proof.worst:g} ({made.cheaper})")
