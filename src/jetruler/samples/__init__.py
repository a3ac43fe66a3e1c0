"""Any source of lines or columns in; cells, samples, times and readings out, by one road.

Read `shapes.py` first: it finds out how lines are written.
"""
