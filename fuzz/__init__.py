"""Hostile input in quantity: benches, logs, streams and command lines, mutated from the demo's.

`make fuzz SECONDS=60` runs it and reports. Every input follows from its kind and its number, so
that a finding can be had again: `python -m fuzz --kind bench --first 4711 --many 1`.
"""
