"""Raw values that are no counts: a lab box's volts, an echo's centimetres, grams, m/s²."""

import os

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

# In Python an input is the first law; resolution, range and error are in its own unit.
echo = jr.Input("cm", resolution=0.2, range=(2, 250), error=0.3)
silo = echo >> jr.Line.through((98, 0), (8, 100), unit="%", takes="cm") >> jr.Clamp(0, 100)
print(silo.trace(20.6))
print(jr.budget(silo, 20.6, noise=0.15))

# In a bench file it is a table in the place of `converter`.
store = jr.load_bench("store.toml")
print(jr.convert("store.csv", store, "store-values.csv").rows, "rows")
for finding in jr.look("store.csv", store).findings:
    print(finding)

# A float log is surveyed without a bench too: each column in steps of its last decimal.
print({name: each.survey.step for name, each in jr.look("store.csv").columns.items()})
