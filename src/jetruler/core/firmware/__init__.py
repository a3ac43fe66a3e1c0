"""A conversion as a small program, and its proof over every count.

In: a channel, an arithmetic, an error bound. Out: an `Exported` with its program in a restricted
language, the worst error over all counts, and what was chosen.
Read `selection.py` first; `program.py` has the language and its exact model.
"""
