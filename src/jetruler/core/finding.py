"""Findings: what is the matter, where, why it matters, and what to do about it."""

from __future__ import annotations

import dataclasses
import inspect
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from types import MappingProxyType
from typing import Any

from .result import Content, Item, Result, TextTable


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
    change : str, default ""
        What to type, where the bench file can mend it. It has been tried: after it this finding
        is gone, and there is no new one.
    explains : tuple[Finding, ...], default ()
        Findings that this change clears too: they follow from this one.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4.7e6) >> jr.Beta(10e3, 3435)
    >>> slip = jr.Channel("t", ruler, "ch0", limits=(0, 100))
    >>> found = jr.check(jr.Bench("Desk", {"t": slip}))[0]
    >>> found.rule, found.change
    ('unit-slip', 'channel.t.laws[1]: known = "4.7 kohm"')
    >>> [finding.rule for finding in found.explains]
    ['few-counts']
    """

    severity: Severity
    """How serious it is."""
    where: str
    """The column or channel, or the place in the bench file."""
    what: str
    """What is the matter."""
    remedy: str
    """What to do about it."""
    rule: str = ""
    """Name of the check that found it."""
    why: str = ""
    """Why it matters."""
    change: str = ""
    """What to type, where the bench file can mend it. It has been tried: after it this finding is
    gone, and there is no new one."""
    explains: tuple[Finding, ...] = ()
    """Findings that this change clears too: they follow from this one."""
    _changes: tuple[Any, ...] = dataclasses.field(default=(), repr=False, compare=False)
    """What its rule proposes, the likeliest first, before it is tried."""

    def __str__(self) -> str:
        return f"{self.where}: {self.what}. {self.remedy}."

    @property
    def worst(self) -> Severity:
        """The most serious of the finding and those that it explains."""
        return min((self.severity, *(one.severity for one in self.explains)))

    @property
    def item(self) -> Item:
        """The finding in a line."""
        return Item(self.severity.name.lower(), self.severity, str(self))

    @property
    def explained(self) -> Item:
        """The finding with its evidence, why it matters, and its remedy."""
        below = [self.what, *([f"why: {self.why}"] if self.why else []), f"remedy: {self.remedy}"]
        if self.change:
            below.append(f"to type (tried): {self.change}")
        if self.explains:
            below.append("this explains:")
            below += [f"  {one.where} ({one.rule}): {one.what}" for one in self.explains]
        head = f"{self.where} ({self.rule})"
        return Item(self.severity.name.lower(), self.severity, head, tuple(below))


#: The columns of `finding_rows`.
FINDING_COLUMNS = ("severity", "place", "found", "what to do")


def finding_rows(findings: Iterable[Finding]) -> list[tuple[str, str, str, str]]:
    """Findings as rows, each followed by those that it explains."""
    rows = []
    for finding in findings:
        todo = f"{finding.remedy}. To type: {finding.change}" if finding.change else finding.remedy
        rows.append((finding.severity.name.lower(), finding.where, finding.what, todo))
        rows += [
            (one.severity.name.lower(), one.where, one.what, "follows from the one above")
            for one in finding.explains
        ]
    return rows


@dataclass(frozen=True)
class Injected:
    """A row of `expected`, run.

    Attributes
    ----------
    where : str
        The row's place in the bench file.
    raw : str
        The raw value that is put in.
    expected : str
        What must come out.
    found : str
        What comes out.
    holds : bool
        Whether that is within the tolerance.
    """

    where: str
    raw: str
    expected: str
    found: str
    holds: bool


#: The columns of `injected_rows`.
INJECTED_COLUMNS = ("expected row", "raw", "expected", "found", "holds")


def injected_rows(rows: Iterable[Injected]) -> list[tuple[str, ...]]:
    """Expected rows as texts."""
    return [(r.where, r.raw, r.expected, r.found, "yes" if r.holds else "no") for r in rows]


class Findings(Result, tuple[Finding, ...]):
    """All findings of `check` or `check_log`, the most serious first.

    Attributes
    ----------
    unjudged : Mapping[str, str]
        By channel: what could not be checked because a number is missing.
    injected : tuple[Injected, ...]
        The rows `expected` of the bench, run.

    Examples
    --------
    >>> import jetruler as jr
    >>> volts = jr.Ruler((jr.Adc(12, 3.3),))
    >>> print(jr.check(jr.Bench("Desk", {"t": jr.Channel("t", volts, "ch0", limits=(0, 3.3))})))
    nothing found
    """

    unjudged: Mapping[str, str] = MappingProxyType({})
    injected: tuple[Injected, ...] = ()

    __eq__ = tuple.__eq__
    __hash__ = tuple.__hash__

    @classmethod
    def of(
        cls,
        findings: Iterable[Finding],
        unjudged: Mapping[str, str] | None = None,
        injected: Iterable[Injected] = (),
    ) -> Findings:
        """Findings by severity: their own, or that of the most serious one that each explains."""
        found = cls(sorted(findings, key=lambda finding: (finding.worst, finding.severity)))
        found.unjudged, found.injected = dict(unjudged or {}), tuple(injected)
        return found

    @property
    def flat(self) -> list[Finding]:
        """All of them, each followed by those that it explains."""
        return [one for finding in self for one in (finding, *finding.explains)]

    @property
    def headline(self) -> str:
        if not self:
            return "nothing found"
        many = [(sum(f.severity == each for f in self), each.name.lower()) for each in Severity]
        text = ", ".join(f"{n} {word}{'s' * (n != 1)}" for n, word in many)
        follow = sum(len(finding.explains) for finding in self)
        return f"{text}; {follow} more follow{'s' * (follow == 1)} from these" if follow else text

    @property
    def alert(self) -> str:
        """The most serious one in a sentence, before the bench is used; empty if there are only
        notes."""
        if not self or self[0].worst is Severity.NOTE:
            return ""
        first, seen = self[0], [finding.severity for finding in self.flat]
        many = [(seen.count(each), each.name.lower()) for each in Severity if each in seen]
        text = " and ".join(f"{n} {word}{'s' * (n != 1)}" for n, word in many[:2])
        return f"check finds {text}; first {first.where}: {first.what}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        return {
            "severity": [finding.severity.name.lower() for finding in self],
            **{
                name: [getattr(finding, name) for finding in self]
                for name in ("where", "what", "remedy", "change", "rule", "why")
            },
        }

    @property
    def short_content(self) -> Content:
        """The findings as a table: each with what to type, or else what to do."""
        table = TextTable(FINDING_COLUMNS, finding_rows(self), left=4, wrapped=True)
        lines: list[Any] = [table, ""] if self else []
        return [*lines, *self._beside, self.headline]

    @property
    def content(self) -> Content:
        lines: list[Any] = []
        for finding in self:
            lines += [finding.explained, ""]
        return [*lines, *self._beside, self.headline]

    @property
    def _beside(self) -> Content:
        """What was run, and what could not be judged."""
        lines: list[Any] = []
        if self.injected:
            rows = injected_rows(self.injected)
            holding = sum(row.holds for row in self.injected)
            lines += [
                TextTable(INJECTED_COLUMNS, rows, left=5),
                f"{holding} of {len(rows)} expected rows hold",
                "",
            ]
        lines += [f"{name}: not checked for lack of {what}" for name, what in self.unjudged.items()]
        return lines

    def _fields(self) -> Mapping[str, Any]:
        return {
            "findings": list(self),
            "unjudged": self.unjudged,
            "injected": self.injected,
        }


@dataclass(frozen=True)
class Described:
    """A rule for people: its name, what it finds (one sentence), and why that matters."""

    name: str
    finds: str
    why: str


def description(rule: Callable[..., object]) -> Described:
    """A rule's name and docstring: the first paragraph says what, the second why."""
    finds, _, why = inspect.cleandoc(rule.__doc__ or "").partition("\n\n")
    name = rule.__name__.strip("_").replace("_", "-")
    return Described(name, " ".join(finds.split()), " ".join(why.split()))


def applied(rule: Callable[..., Iterable[Finding]], *given: Any) -> list[Finding]:
    """What a rule finds, with its name and its reason."""
    about = description(rule)
    return [dataclasses.replace(found, rule=about.name, why=about.why) for found in rule(*given)]
