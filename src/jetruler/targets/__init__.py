"""Programs as text for a target: C, Python, IEC 61131-3 structured text.

In: what `core.firmware` exported. Out: one source file with conversions, flags, machines and a
self-test.
Read `assemble.py` first.
"""
