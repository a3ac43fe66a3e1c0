"""Results as frames: for notebooks, and for whoever sorts and filters."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    import pandas as pd


class Tabular(Protocol):
    """A result with a list a column."""

    @property
    def columns(self) -> Any:
        """The columns by name."""


def frame(result: Tabular) -> pd.DataFrame:
    """All candidates of a choice as a pandas DataFrame, best first."""
    import pandas as pd

    return pd.DataFrame(result.columns)
