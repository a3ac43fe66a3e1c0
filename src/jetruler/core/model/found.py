"""What every result has in common: its text, a frame, plain data, and its look in a notebook."""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from ..provided import provided

#: Arrays longer than this are told by their size in plain data.
LONGEST = 10_000


class Found:
    """A result: `print` gives the text of the tool, `to_frame` its table, `to_dict` plain data."""

    @property
    def headline(self) -> str:
        """The one sentence that matters most."""
        raise NotImplementedError

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        """The table, a list a column."""
        raise NotImplementedError

    def to_frame(self) -> Any:
        """The table as a pandas DataFrame."""
        return provided("frame")(self)

    def to_dict(self) -> dict[str, Any]:
        """All of it as plain data, fit for JSON: numbers, texts, lists, None where there is no
        number."""
        data: dict[str, Any] = plain(self)
        return data

    def _repr_html_(self) -> str:
        """The sentence above the table, for a notebook."""
        html: str = provided("html")(self)
        return html

    def __repr__(self) -> str:
        return f"<{type(self).__name__}: {self.headline}>"


def plain(value: Any) -> Any:
    """Dataclasses as dictionaries (of their public fields), arrays as lists, NaN as None, anything
    else that is no data as its text."""
    if isinstance(value, bool | str | int) or value is None:
        return value
    if isinstance(value, float | np.floating):
        return float(value) if math.isfinite(value) else None
    if isinstance(value, np.integer):
        return int(value)
    if isinstance(value, np.ndarray):
        return plain(value.tolist()) if value.size <= LONGEST else f"{value.size} numbers"
    if isinstance(value, Mapping):
        return {str(key): plain(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple | set | frozenset):
        return [plain(inner) for inner in value]
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        fields = (field.name for field in dataclasses.fields(value))
        return {name: plain(getattr(value, name)) for name in fields if not name.startswith("_")}
    return str(value)
