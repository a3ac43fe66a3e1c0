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

# A whole result is equal at every count; a bound says what the cheaper form would cost.
knob = jr.Counts(12) >> jr.Line.through((198, 0), (3904, 255)) >> jr.Clamp(0, 255) >> jr.Whole()
duty = jr.Channel("duty", knob, "ch2")
for bound in (None, 1.0):
    made = jr.export(duty, "duty", "int16", within=bound)
    print(f"duty, within {bound}: {made.kind}, off by {made.proof.worst:g} ({made.cheaper})")
