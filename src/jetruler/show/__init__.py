"""How things are shown to people: text, HTML, pictures, circuits, and a bench as a report.

In: rulers, channels and results. Out: lines, pages, a Matplotlib Axes. Read `printed.py` first.
"""
