"""Pictures. Every function takes and returns a Matplotlib Axes.

In: a channel, a survey, a fit, a comparison, a budget. Out: what is drawn on the Axes.
Read `style.py` first, then the file named after the picture.
"""
