"""What operating systems do in their own ways, each with its variants.

`terminal.py` has keys and the window, `signals.py` what ends or rests a program, `processes.py`
processors and other programs, `file_names.py` names of files, `addresses.py` scarce memory. The
room asks for a module or a call; it asks for a system's name only where nothing else tells.

In: nothing of ours. Out: the same on every system. Read `terminal.py` first.
"""
