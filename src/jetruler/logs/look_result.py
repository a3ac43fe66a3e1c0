"""What a look at a log has found: a survey a column, the time column, findings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ..core.model.channel import Channel
from ..core.model.result import Content, Result, TextTable
from ..core.model.ruler import Ruler
from ..core.model.text import shown
from ..core.survey.finding import Finding
from ..core.survey.floating import Floating
from ..core.survey.survey import FIGURES, SURVEY_HEADINGS, Survey
from ..core.survey.timing import TimeSurvey
from ..core.survey.unit_mean import UnitMean, unit_mean
from ..core.uncertainty.rounding import with_uncertainty

#: What a lab report asks for of each column.
MEANS = ("mean at 95 %", "samples", "independent", "raw", "in its unit", "std dev")
#: Columns that a narrow window leaves out, and the one with the bits.
LEFT_OUT = (1, 2, 4)
BITS = SURVEY_HEADINGS.index("bits")


@dataclass(frozen=True)
class ColumnLook:
    """One column: its survey, the channel it belongs to, and what could not be read."""

    name: str
    column: str
    channel: Channel | None
    survey: Survey
    bits: int | None
    bits_guessed: bool
    empty: int
    unreadable: int
    fractional: int
    floating: Floating | None = None
    place: int = 0
    """Where it stands, from 0."""

    @property
    def in_unit(self) -> UnitMean | None:
        """Its mean in the channel's unit."""
        return None if self.channel is None else unit_mean(self.survey, self.channel)

    def in_every_unit(self) -> list[list[str]]:
        """Its mean at 95 % and its deviation at every joint of the channel's chain: rows of the
        name, the mean and the deviation."""
        if self.channel is None:
            return [[self.name, _mean(self.survey.mean, self.survey.known.half_width, None), "–"]]
        laws = self.channel.chain.laws
        rows: list[list[str]] = []
        for end in range(1, len(laws) + 1):
            chain = Ruler(laws[:end])
            unit = chain.gives
            found = unit_mean(self.survey, Channel(self.name, chain, self.channel.column))
            known = found is not None and found.mean == found.mean
            if found is None or not known or unit in (None, "1", "fraction"):
                continue
            deviation = shown(float(f"{found.standard_deviation:.2g}"), unit)
            cells = [_mean(found.mean, found.half_width, unit), deviation]
            if not rows or rows[-1][1:] != cells:
                rows.append(["" if rows else self.name, *cells])
        return rows

    def row(self) -> list[str]:
        """Its row in the table of columns."""
        name = self.name if self.name == self.column else f"{self.name} ({self.column})"
        bits = f"{self.bits}{'?' * self.bits_guessed}" if self.bits else ""
        row = self.survey.row(name, bits)
        return row if bits else ["–" if i == BITS else cell for i, cell in enumerate(row)]

    def mean_row(self) -> list[str]:
        """Its row below `MEANS`."""
        v, own = self.survey, self.in_unit
        row = ["–", "–"]
        if own is not None and self.channel is not None and own.mean == own.mean:
            deviation = shown(float(f"{own.standard_deviation:.2g}"), self.channel.unit)
            row = [_mean(own.mean, own.half_width, self.channel.unit), deviation]
        independent = v.known.independent
        told = f"{independent:.0f}" if independent == independent else "–"
        return [self.name, str(v.samples), told, _mean(v.mean, v.known.half_width, None), *row]

    def figures(self) -> dict[str, Any]:
        """What it tells, by name."""
        own = self.in_unit
        return {
            "column": self.column,
            "bits": self.bits,
            "bits_guessed": self.bits_guessed,
            "empty": self.empty,
            "unreadable": self.unreadable,
            "fractional": self.fractional,
            "in_unit": None
            if own is None or self.channel is None
            else {
                "unit": self.channel.unit,
                "samples": own.samples,
                "mean": own.mean,
                "standard_deviation": own.standard_deviation,
                "mean_half_width": own.half_width,
            },
        } | self.survey.to_dict()


def _mean(mean: float, half_width: float, unit: str | None) -> str:
    """`(225.31 ± 0.12) °C`; the mean alone where no interval is known."""
    if half_width == half_width:
        return with_uncertainty(mean, half_width, unit)
    return shown(float(f"{mean:.5g}"), unit) if mean == mean else "–"


@dataclass(frozen=True, repr=False)
class Look(Result):
    """What a log shows: its columns, its time, and the findings, most serious first.

    Attributes
    ----------
    rows : int
        Rows of the log.
    columns : dict[str, ColumnLook]
        What was found in each column of counts, by channel or column.
    time : TimeSurvey | None
        What its time column does; None without one.
    findings : tuple[Finding, ...]
        Most serious first.
    torn_rows : int
        Rows with too few or too many fields.
    left_out : tuple[str, ...]
        Columns that hold neither counts nor time.
    said : str, default ""
        How the log's lines were read, where nobody said so.
    noise : str, default ""
        How many lines were no samples, with the first of each kind.
    unnamed : bool, default False
        Whether its columns have numbers for names.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.look("roast.csv").rows
    4200
    """

    rows: int
    columns: dict[str, ColumnLook]
    time: TimeSurvey | None
    findings: tuple[Finding, ...]
    torn_rows: int
    left_out: tuple[str, ...]
    """Columns that hold neither counts nor time."""
    said: str = ""
    noise: str = ""
    unnamed: bool = False

    @property
    def remarks(self) -> list[str]:
        """How the lines were read, and which were no samples."""
        said = f"reading lines as: {self.said}" if self.said else ""
        return [text for text in (said, self.noise) if text]

    @property
    def headline(self) -> str:
        worst = f"; {self.findings[0]}" if self.findings else ""
        return f"{self.rows} rows, {len(self.findings)} findings{worst}"

    @property
    def table(self) -> Mapping[str, Sequence[Any]]:
        surveys = {name: each.survey for name, each in self.columns.items()}
        table: dict[str, Sequence[Any]] = {"channel": list(surveys)}
        for name in FIGURES:
            table[name.replace("_", " ")] = [getattr(v, name) for v in surveys.values()]
        return table

    @property
    def content(self) -> Content:
        """A row a column, what a lab report asks for, the time column, then the findings."""
        columns = self.columns.values()
        lines: list[Any] = [
            f"{self.rows} rows",
            *self.remarks,
            TextTable(SURVEY_HEADINGS, [each.row() for each in columns], optional=LEFT_OUT),
            "",
            TextTable(MEANS, [each.mean_row() for each in columns]),
        ]
        if self.time is not None:
            lines.append(str(self.time))
        if self.torn_rows:
            lines.append(f"{self.torn_rows} rows with too few or too many fields")
        if self.left_out:
            lines.append(f"not looked at, no counts: {', '.join(self.left_out)}")
        return [*lines, "", *(finding.item for finding in self.findings)]

    def _fields(self) -> Mapping[str, Any]:
        return {
            "rows": self.rows,
            "said": self.said,
            "noise": self.noise,
            "torn_rows": self.torn_rows,
            "columns": {name: each.figures() for name, each in self.columns.items()},
            "left_out": self.left_out,
            "time": self.time,
            "findings": self.findings,
        }
