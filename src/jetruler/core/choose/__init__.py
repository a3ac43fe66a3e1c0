"""Which part serves a sensor best: resistor, reference, amplifier, number of readings.

In: a channel and what is wanted of it. Out: candidates, best first, beside the present part and the
optimum.
Read `resistor.py` first.
"""
