"""Before converting: what the raw samples do, where a knob really ends, how many to average."""

import os

import numpy as np

import jetruler as jr
from jetruler import demo

os.chdir(demo.unpack())  # a temporary folder with the demo's files

found = jr.look("roast.csv", jr.load_bench("bench.toml"))
for finding in found.findings:
    print(f"{finding.severity.name.lower():8}{finding}")

# The same on arrays: a knob that is turned from stop to stop, with some noise.
random = np.random.RandomState(1)
fraction = np.interp(np.arange(2000), [0, 500, 900, 1400, 1800], [0, 0, 1, 1, 0])
counts = np.round(198 + 3706 * fraction + 1.5 * random.standard_normal(2000)).astype(np.int64)
print(jr.find_ends(counts, bits=12).line(0, 100))

# Whatever holds the numbers: 24 bits, with gaps and two readings that were glued together.
cell = np.round(7654321 + 20 * random.standard_normal(2000))
cell[::50], cell[700] = np.nan, 7654321_7654322
survey = jr.look(cell).columns["1"].survey
print(f"{survey.samples} samples, mean {survey.mean:.2f} ± {survey.known.half_width:.2f}")
if survey.off_scale:
    print("left out:", survey.off_scale.furthest, "in row", survey.off_scale.row + 1)

# How still can it be held, and by which smoothing?
noise = jr.survey(counts, bits=12).noise
print(f"noise {noise:.2f} counts:", jr.how_many(noise, target=0.25))
# At rest, with hum and slow noise, it is the readings themselves that tell.
hum = 2 * np.sin(2 * np.pi * np.arange(5000) / 17.3)
print("with hum:", jr.how_many(1880 + hum + random.standard_normal(5000), target=0.25))
smoothing = jr.Smoothing("mean", over=16)
print(smoothing.summary(interval=0.2), "→", jr.smooth(counts, smoothing)[:3])
