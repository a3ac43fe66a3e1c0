"""What everything else is made of: quantities and units, laws, rulers, channels, a bench, readings.

In: numbers and texts with units. Out: a `Ruler` of `Law` objects that converts any array of counts,
and a `Channel` or `Bench` that says what a ruler is for.
Read `law.py` first, then `ruler.py`, `reading.py` and `channel.py`.
"""

from . import ruler as ruler  # `law >> law` needs it
