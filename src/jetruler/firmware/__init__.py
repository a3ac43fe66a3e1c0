"""Programs as text for a target: C, Python, IEC 61131-3 structured text."""
