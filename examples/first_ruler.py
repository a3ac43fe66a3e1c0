"""A first ruler: counts of the damper knob into percent, and back, with the work shown."""

import numpy as np

import jetruler as jr

# Two marks that somebody noted while turning the knob to its ends: (counts, percent).
knob = jr.Counts(bits=12) >> jr.Line.through((198, 0), (3904, 100), unit="%") >> jr.Clamp(0, 100)

print(knob(1880))  # one count
print(knob(np.array([198, 1880, 3904, 4095], dtype=np.uint16)))  # many
print(knob.read(4095))  # the clamp holds it at 100 %, the flags say why
print(knob.inverse(50.0))  # the count that means 50 %
print(knob.slope(1880))  # percent per count
print()
print(knob.trace(1880))
print()

# Reversed, because the knob was mounted the other way round: the same two marks, swapped.
reversed_knob = jr.Counts(bits=12) >> jr.Line.through((3904, 0), (198, 100), unit="%")
print(reversed_knob([198, 3904]))

# Volts of the same converter; the reference carries its tolerance.
volts = jr.Adc(bits=12, vref=jr.quantity("3.3 V ± 1 %")) >> jr.Line(gain=4.3, unit="V")
print(volts.trace(3440))
