"""What you have goes in, and comes out as it was: lists, frames with gaps, quantities, marks by
name.

python examples/what_you_have.py
"""

from collections import deque

import pandas as pd
import pint
import polars as pl

import jetruler as jr

bean = jr.Adc(12, "3.3 V") >> jr.Divider("4.7 kohm") >> jr.Beta("100 kohm", "3950 K")

print(bean([1880, 400]))
print(bean(deque([1880, 400])))
print(bean(pd.Series([1880, None, 400], dtype="Int64", name="bean")).round(2).tolist())
print(bean(pl.Series("bean", [1880, None, 400])).round(2).to_list())

volt = pint.UnitRegistry().volt
print(f"1.5 V at the pin: {bean(1.5 * volt):.2f} °C")
print(f"in another unit: {bean(1880, units=True).to('degF').magnitude:.2f} °F")

bath = {"raw": [3912, 2479, 573], "true": ["25.3 degC", "99.6 degC", "200.1 degC"]}
print(jr.fit(bath, jr.Beta, upstream=jr.Adc(12, "3.3 V") >> jr.Divider("4.7 kohm")).headline)

for given in ("1880", [True], {"bean": 1880}):
    try:
        bean(given)
    except jr.errors.KindError as error:
        print(error)
