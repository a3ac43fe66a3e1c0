"""What operating systems do in their own ways, each with its variants: `terminal.py` has keys and
the window, `signals.py` what ends or rests a program, `processes.py` other programs, `names.py`
names of files. The room asks for a module or a call; it never asks for a system's name where
the one or the other tells.

In: nothing of ours. Out: the same on every system. Read `terminal.py` first.
"""
