"""A thermistor behind a divider: from counts to °C and back, and what one count is worth."""

import numpy as np

import jetruler as jr

# The divider is fed from the converter's own reference, which cancels: no vref is needed.
bean = jr.Adc(bits=12) >> jr.Divider(known=4700, sensor="lower") >> jr.Beta(r0=100e3, beta=3950)

print(bean.trace(1880))
print()
print(bean.trace_back(225))
print()

for celsius in (25, 100, 225):
    count = bean.inverse(celsius)
    print(f"{celsius:4} °C at count {count:7.1f}, one count is {abs(bean.slope(count)):.3f} °C")

# An open wire and a short are not −273 °C and not 1000 °C: they have no value, and say why.
reading = bean.read(np.array([0, 1880, 4095], dtype=np.uint16))
print(reading.value, reading.flags)

# The 4–20 mA loop: a broken loop is a fault, not a negative pressure.
draught = (
    jr.Adc(bits=12, vref=3.3)
    >> jr.Shunt(150)
    >> jr.Expect(3.6e-3, 21e-3, unit="A")
    >> jr.Line.through((4e-3, 0), (20e-3, 250), unit="Pa")
)
print(draught.read(1880), "|", draught.read(200))

# Both sets of coefficients of a datasheet: the first rules, the other is held against it.
pair = jr.SteinhartHartExtended(
    r25=10e3,
    to_kelvin=(3.354016e-3, 2.569850e-4, 2.620131e-6, 6.383091e-8),
    to_ohms=(-14.63371957, 4791.842, -115334, -3730535),
)
print(pair.disagreement(-40, 125))
