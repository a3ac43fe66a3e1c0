"""One finding: what is the matter, where, how serious it is, and what to do about it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import IntEnum


class Severity(IntEnum):
    """How serious a finding is.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.results.Severity.ERROR < jr.results.Severity.NOTE
    True
    """

    ERROR = 0
    WARNING = 1
    NOTE = 2


@dataclass(frozen=True)
class Finding:
    """One finding of `look` or `check`.

    Attributes
    ----------
    severity : Severity
        How serious it is.
    where : str
        The column or channel, or the place in the bench file.
    what : str
        What is the matter.
    remedy : str
        What to do about it.
    rule : str, default ""
        Name of the check that found it.
    why : str, default ""
        Why it matters.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4.7e6) >> jr.Beta(10e3, 3435)
    >>> slip = jr.Channel("t", ruler, "ch0", limits=(0, 100))
    >>> [finding.rule for finding in jr.check(jr.Bench("Desk", {"t": slip}))]
    ['unit-slip', 'few-counts', 'limits-out-of-reach']
    """

    severity: Severity
    where: str
    what: str
    remedy: str
    rule: str = ""
    why: str = ""

    def __str__(self) -> str:
        return f"{self.where}: {self.what}. {self.remedy}."
