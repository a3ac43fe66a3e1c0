"""What every result has in common: its text, a table, a frame, plain data; and findings, the
results that say what is the matter and what to do about it."""

from __future__ import annotations

import dataclasses
import enum
import functools
import inspect
import math
import sys
import warnings
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import IntEnum
from types import MappingProxyType
from typing import Any, TypeVar, cast

import numpy as np

from . import OUTER
from .error_types import JetRulerError

F = TypeVar("F", bound=Callable[..., Any])
T = TypeVar("T", bound=type)


def old_keywords(**names: str) -> Callable[[F], F]:
    """Take the keywords of the version before, for one version more: `old_keywords(old="new")`."""

    def keep(function: F) -> F:
        @functools.wraps(function)
        def call(*args: Any, **options: Any) -> Any:
            for old in names.keys() & options.keys():
                _warn(old, names[old])
                options[names[old]] = options.pop(old)
            return function(*args, **options)

        return cast(F, call)

    return keep


def old_fields(**names: str) -> Callable[[T], T]:
    """Keep the fields of the version before, for one version more: `old_fields(old="new")`."""

    def keep(kind: T) -> T:
        kind.__init__ = old_keywords(**names)(kind.__init__)  # type: ignore[misc]
        for old, new in names.items():

            def renamed(self: Any, old: str = old, new: str = new) -> Any:
                _warn(old, new)
                return getattr(self, new)

            setattr(kind, old, property(renamed))
        return kind

    return keep


def refuses(function: F) -> F:
    """Let a public function answer for its arguments: where it fails by an exception that is not
    ours, the first argument of another kind than its type hint is named (`KindError`)."""

    @functools.wraps(function)
    def call(*args: Any, **options: Any) -> Any:
        try:
            return function(*args, **options)
        except JetRulerError:
            raise
        except Exception as error:
            wrong = OUTER.wrong_argument(function, args, options)
            if wrong is None:
                raise
            raise wrong from error

    return cast(F, call)


def refuses_fields(kind: T) -> T:
    """The same for a class whose fields are given by users."""
    kind.__init__ = refuses(kind.__init__)  # type: ignore[misc]
    return kind


def _warn(old: str, new: str) -> None:
    """Where the caller's own line is: past every frame of ours, since Python shows only those."""
    level, frame = 1, sys._getframe()
    while frame is not None and str(frame.f_globals.get("__name__")).startswith("jetruler"):
        level, frame = level + 1, frame.f_back  # type: ignore[assignment]
    warnings.warn(f"{old} is called {new} now", DeprecationWarning, stacklevel=level)


#: Arrays longer than this are told by their size in plain data.
LONGEST = 10_000


class Title(str):
    """A line that is set in bold where there is bold."""


@dataclasses.dataclass(frozen=True)
class TextTable:
    """A table for people.

    headings: one for each column. rows: a text for each. left: which columns begin at the left, or
    how many; the others end at the right. optional: those that a narrow window leaves out. wrapped:
    whether its cells are sentences, which go on in their column where a window is narrow.
    """

    headings: Sequence[str]
    rows: Sequence[Sequence[str]]
    left: int | tuple[int, ...] = 1
    optional: tuple[int, ...] = ()
    wrapped: bool = False

    @property
    def at_left(self) -> Sequence[int]:
        """The columns that begin at the left."""
        return range(self.left) if isinstance(self.left, int) else self.left

    def narrowed(self) -> TextTable:
        """The table without its optional columns."""
        kept = [i for i in range(len(self.headings)) if i not in self.optional]
        rows = [[row[i] for i in kept] for row in self.rows]
        left = tuple(kept.index(i) for i in self.at_left if i in kept)
        return TextTable([self.headings[i] for i in kept], rows, left)


@dataclasses.dataclass(frozen=True)
class Item:
    """A line behind its mark, such as a severity, and lines that belong below it. grade: 0 for the
    most serious mark, 1 and 2 for the others."""

    mark: str
    grade: int
    text: str
    below: tuple[str, ...] = ()


#: What a result prints: lines, tables and marked items, one below the other.
Content = Sequence["str | TextTable | Item"]


class ByValue:
    """Two of a kind are equal where all their fields are: arrays value by value, NaN to NaN. What
    is frozen can be hashed."""

    def __eq__(self, other: object) -> bool:
        if type(self) is not type(other):
            return NotImplemented
        return _same(_compared(self), _compared(other))

    def __hash__(self) -> int:
        return hash(type(self).__name__)


def _compared(thing: Any) -> dict[str, Any]:
    names = (field.name for field in dataclasses.fields(thing) if field.compare)
    return {name: getattr(thing, name) for name in names if not name.startswith("_")}


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, np.ndarray) and isinstance(other, np.ndarray):
        if one.dtype.kind == "f" and other.dtype.kind == "f":
            return np.array_equal(one, other, equal_nan=True)
        return np.array_equal(one, other)
    if isinstance(one, Mapping) and isinstance(other, Mapping):
        return one.keys() == other.keys() and all(_same(one[k], other[k]) for k in one)
    if isinstance(one, list | tuple) and isinstance(other, list | tuple):
        pairs = zip(one, other, strict=False)
        return len(one) == len(other) and all(_same(a, b) for a, b in pairs)
    if dataclasses.is_dataclass(one) and type(one) is type(other):
        return _same(_compared(one), _compared(other))
    return bool(one == other or (one != one and other != other))


class Result(ByValue):
    """A result: `print` gives what the tool prints, `to_frame` its table, `to_dict` what `--json`
    writes."""

    @property
    def headline(self) -> str:
        """The one sentence that matters most."""
        raise NotImplementedError

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        """The table, a list a column."""
        raise NotImplementedError

    @property
    def content(self) -> Content:
        """What the tool prints: lines, tables and items."""
        return [self.headline]

    def to_frame(self) -> Any:
        """The table as a DataFrame: of pandas, or of Polars where pandas is not there."""
        return OUTER.frame(self)

    def to_dict(self) -> dict[str, Any]:
        """All of it as plain data, fit for JSON: numbers, texts, lists, None where there is no
        number."""
        data: dict[str, Any] = plain_data(self._fields())
        return data

    def as_dict(self) -> dict[str, Any]:
        """The old name of `to_dict`, until the next version."""
        warnings.warn("as_dict() is called to_dict() now", DeprecationWarning, stacklevel=2)
        return self.to_dict()

    def _fields(self) -> Mapping[str, Any]:
        """What `to_dict` tells, by name; the public fields unless a result says otherwise."""
        return public_fields(self)

    def _repr_html_(self) -> str:
        """The sentence above the table, for a notebook."""
        return OUTER.html(self)

    def __str__(self) -> str:
        return OUTER.text(self.content)

    def __repr__(self) -> str:
        return f"<{type(self).__name__}: {self.headline}>"


def public_fields(thing: Any) -> dict[str, Any]:
    """The public fields of a dataclass, by name."""
    names = (field.name for field in dataclasses.fields(thing))
    return {name: getattr(thing, name) for name in names if not name.startswith("_")}


def plain_data(value: Any) -> Any:
    """Results as what they tell, dataclasses as dictionaries of their public fields, names of
    choices in lower case, arrays as lists, NaN as None, anything else that is no data as its
    text."""
    if isinstance(value, enum.Enum):
        return str(value.name).lower()
    if isinstance(value, bool | str | int) or value is None:
        return value
    if isinstance(value, float | np.floating):
        return float(value) if math.isfinite(value) else None
    if isinstance(value, np.bool_ | np.integer):
        return value.item()
    if isinstance(value, np.ndarray):
        return plain_data(value.tolist()) if value.size <= LONGEST else f"{value.size} numbers"
    if isinstance(value, Mapping):
        return {str(key): plain_data(inner) for key, inner in value.items()}
    if isinstance(value, Result):
        return value.to_dict()
    if isinstance(value, list | tuple | set | frozenset):
        return [plain_data(inner) for inner in value]
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        return plain_data(public_fields(value))
    return str(value)


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


@functools.cache
def description(rule: Callable[..., object]) -> Described:
    """A rule's name and docstring: the first paragraph says what, the second why."""
    finds, _, why = inspect.cleandoc(rule.__doc__ or "").partition("\n\n")
    name = rule.__name__.strip("_").replace("_", "-")
    return Described(name, " ".join(finds.split()), " ".join(why.split()))


def applied(rule: Callable[..., Iterable[Finding]], *given: Any) -> list[Finding]:
    """What a rule finds, with its name and its reason."""
    about = description(rule)
    return [dataclasses.replace(found, rule=about.name, why=about.why) for found in rule(*given)]
