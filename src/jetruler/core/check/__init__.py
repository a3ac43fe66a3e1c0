"""Findings in a bench, and between a bench and a log.

In: a `Bench`, and surveys of a log. Out: `Finding` objects, most serious first. A rule is a
function with a docstring, from which docs/checks.md is made.
Read `check.py` first; `facts.py` is what a rule knows of a channel.
"""
