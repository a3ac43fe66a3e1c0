"""What a report is made of, whatever it is written in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from matplotlib.figure import Figure


@dataclass(frozen=True)
class Heading:
    """A heading; 1 is a channel, 2 a part of it."""

    text: str
    level: int = 2
    kind: ClassVar[str] = "heading"


@dataclass(frozen=True)
class Text:
    """A sentence or some."""

    text: str
    kind: ClassVar[str] = "text"


@dataclass(frozen=True)
class Worked:
    """A worked solution, line by line as it stands."""

    text: str
    kind: ClassVar[str] = "worked"


@dataclass(frozen=True)
class TableBlock:
    """A table; its first column is to the left, and the others too where they hold words."""

    heading: Sequence[str]
    rows: Sequence[Sequence[str]]
    words: bool = False
    kind: ClassVar[str] = "table"


@dataclass(frozen=True)
class Picture:
    """A figure, with a name for its file and a caption."""

    name: str
    caption: str
    figure: Figure
    kind: ClassVar[str] = "picture"


Block = Heading | Text | Worked | TableBlock | Picture
