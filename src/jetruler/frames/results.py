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
    """All candidates of a choice as a pandas DataFrame, best first.

    Parameters
    ----------
    result : Tabular
        What `choose_resistor`, `choose_reference` or another choice returns.

    Returns
    -------
    pd.DataFrame
        A row for each candidate.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> list(jr.frame(jr.choose_resistor(sensor, 20, 240)))[0]
    'known'
    """
    import pandas as pd

    return pd.DataFrame(result.columns)
