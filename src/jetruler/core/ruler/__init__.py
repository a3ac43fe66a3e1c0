"""What everything else is made of: quantities and units, conversions, rulers, readings.

In: numbers and texts with units. Out: a `Ruler` of `Law` objects that converts any array of counts.
Read `base_law.py` first, then `ruler.py` and `reading.py`.
"""
