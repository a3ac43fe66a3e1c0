"""Which part suits a sensor best: resistor, reference, amplifier, number of readings.

In: a channel and what is needed of it. Out: candidates, best first, beside the present part and the
optimum.
Read `resistor.py` first.
"""
