"""Codes of fewer bits than the counts that they stand in."""

from __future__ import annotations

import numpy as np

from .survey import Survey


def repeats_bits(found: Survey, codes: int) -> bool:
    """Whether counts are codes of so few bits whose high bits are repeated below."""
    bits = int(found.highest - found.lowest + 1).bit_length() - 1
    low = (1 << (bits - codes)) - 1
    return bool((found.pairs()[0].astype(np.int64) & low).any())


def code_bits(found: Survey) -> int:
    """Return the bits of the codes that all counts are made of: fewer than the converter's where
    results are shifted to the left, or their high bits are repeated below."""
    bits = int(found.highest - found.lowest + 1).bit_length() - 1 if found.unit == "count" else 0
    if found.unit != "count" or found.step != 1.0 or found.distinct < 8 or bits > 32:
        return bits
    counts = found.pairs()[0].astype(np.int64)
    for codes in range(6, bits):
        low = (1 << (bits - codes)) - 1
        shifted = not (counts & low).any()
        repeated = found.lowest == 0 and bits <= 2 * codes
        if shifted or (repeated and np.array_equal(counts & low, counts >> codes)):
            return codes
    return bits
