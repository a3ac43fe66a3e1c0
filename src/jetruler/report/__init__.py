"""A bench as a report to hand in: one page of HTML, or tables and sentences to paste.

In: a bench, and what is at hand (a log, marks, points of choice). Out: HTML, Markdown or LaTeX.
Read `content.py` first (what a report says, as blocks), then `render.py` (how it is written).
"""
