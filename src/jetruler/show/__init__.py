"""How things are shown to people: results as text (tables by Rich), and results, rulers and worked
solutions as HTML with inline SVG, light and without scripts. Read `printed.py` first."""
