"""Docstrings in the numpydoc form, taken apart for the pages that are made from them."""

from __future__ import annotations

import inspect
import re
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Docstring:
    """Its text before any section, its parameters (names, type, meaning), its notes."""

    summary: str
    parameters: list[tuple[str, str, str]]
    notes: str

    @classmethod
    def of(cls, thing: Any) -> Docstring:
        """That of a class or a function."""
        parts = re.split(r"^(\w+)\n-+\n", inspect.getdoc(thing) or "", flags=re.M)
        sections = dict(zip(parts[1::2], parts[2::2], strict=True))
        found = re.findall(
            r"^(\w+(?:, \w+)*) : (.*)\n((?:    .*\n?)+)", sections.get("Parameters", ""), re.M
        )
        rows = [(names, kind, " ".join(text.split())) for names, kind, text in found]
        return cls(_flowing(parts[0]), rows, _flowing(sections.get("Notes", "")))


def _flowing(text: str) -> str:
    """Paragraphs, each on a line."""
    return "\n\n".join(" ".join(part.split()) for part in text.strip().split("\n\n") if part)
