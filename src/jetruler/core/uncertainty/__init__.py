"""How far to trust a reading: budgets to first order, and Monte Carlo.

In: a channel or ruler with toleranced parameters, and a count. Out: a `Budget` row by row, a
`Simulation`, and an expanded uncertainty at every count.
Read `budget.py` first; `contributions.py` has the rows, `draws.py` the draws.
"""
