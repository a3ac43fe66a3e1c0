"""Made-up boards whose truth is known, and what every command must say of them.

`chains.py` makes laws with their formulas in NumPy, `signals.py` raw samples and what is wrong with
them, `world.py` a bench file and a log; `checks.py` holds each command against the truth.
"""
