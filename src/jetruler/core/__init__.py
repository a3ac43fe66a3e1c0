"""Computation only: NumPy and SciPy; no file, terminal, plot or frame library.

In: counts as arrays, laws and their parameters. Out: values, flags, budgets, fits, findings,
programs.
Read `model` first, then the room named after the task.
"""
