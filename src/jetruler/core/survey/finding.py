"""One finding: what is the matter, where, how serious it is, and what to do about it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from ..model.result import Content, Item, Result


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

    @property
    def item(self) -> Item:
        """The finding in a line."""
        return Item(self.severity.name.lower(), self.severity, str(self))

    @property
    def explained(self) -> Item:
        """The finding with its evidence, why it matters, and its remedy."""
        below = [self.what, *([f"why: {self.why}"] if self.why else []), f"remedy: {self.remedy}"]
        head = f"{self.where} ({self.rule})"
        return Item(self.severity.name.lower(), self.severity, head, tuple(below))


class Findings(Result, tuple[Finding, ...]):
    """All findings of `check` or `check_log`, the most serious first.

    Examples
    --------
    >>> import jetruler as jr
    >>> print(jr.check(jr.Bench("Desk", {"t": jr.Channel("t", jr.Adc(12, 3.3), "ch0")})))
    nothing found
    """

    @classmethod
    def of(cls, findings: Iterable[Finding]) -> Findings:
        """Findings in the order of their severity."""
        return cls(sorted(findings, key=lambda finding: finding.severity))

    @property
    def headline(self) -> str:
        if not self:
            return "nothing found"
        many = [(sum(f.severity == each for f in self), each.name.lower()) for each in Severity]
        return ", ".join(f"{n} {word}{'s' * (n != 1)}" for n, word in many)

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "severity": [finding.severity.name.lower() for finding in self],
            **{
                name: [getattr(finding, name) for finding in self]
                for name in ("where", "what", "remedy", "rule", "why")
            },
        }

    @property
    def content(self) -> Content:
        lines: list[Any] = []
        for finding in self:
            lines += [finding.explained, ""]
        return [*lines, self.headline]

    def _fields(self) -> Mapping[str, Any]:
        return {"findings": list(self)}
