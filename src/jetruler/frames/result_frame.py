"""Results as frames: for notebooks, and for whoever sorts and filters."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ..core.model.result import Result

if TYPE_CHECKING:
    import pandas as pd


def frame(result: Result) -> pd.DataFrame:
    """Return the table of a result as a pandas DataFrame."""
    import pandas as pd

    return pd.DataFrame(dict(result.table))
