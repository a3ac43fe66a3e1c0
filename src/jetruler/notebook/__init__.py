"""Notebooks: results, rulers and worked solutions as they show themselves. In: any of them. Out:
HTML with inline SVG, light and without scripts. Read `show.py` first."""
