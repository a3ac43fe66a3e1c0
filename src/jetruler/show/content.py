"""What a report says of a bench, in order, as blocks; and the same blocks as HTML, Markdown or
LaTeX."""

from __future__ import annotations

import dataclasses
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Literal
from urllib.parse import quote

import numpy as np
from jinja2 import Environment, PackageLoader, StrictUndefined
from matplotlib.figure import Figure

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel
from ..core.bench.command_chain import beside_commands, command_channel
from ..core.bench.derived import DerivedChannel
from ..core.bench.drives import Drive
from ..core.calibrate.comparison import Comparison
from ..core.calibrate.in_channel import Calibration, calibrate
from ..core.calibrate.marks import Marks
from ..core.check.check import check
from ..core.error_types import JetRulerError, printable
from ..core.result import (
    FINDING_COLUMNS,
    INJECTED_COLUMNS,
    Finding,
    Findings,
    Result,
    TextTable,
    finding_rows,
    injected_rows,
)
from ..core.ruler.base_law import hint_unit, parameters
from ..core.ruler.quantity import Toleranced
from ..core.ruler.raw_range import raw_ends, raw_samples
from ..core.ruler.units import many, number, shown, significant, symbol
from ..core.uncertainty.budget import budget
from ..core.uncertainty.what_if import has_parameter, what_if
from ..logs.check_log import EVENT_COLUMNS
from ..logs.column_look import MEANS
from ..logs.look_at import Look
from ..logs.pairs import Series
from .figures import (
    budget_figure,
    circuit_figure,
    compare_figure,
    curve_figure,
    fit_figure,
    log_figure,
    ruler_figure,
)
from .schematic import with_tolerance
from .slider import slider
from .style import rendered


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
    """A worked solution, line by line."""

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
    slides: Channel | None = None
    """The channel whose ruler it is: a page has one with a handle in its place."""
    kind: ClassVar[str] = "picture"


Block = Heading | Text | Worked | TableBlock | Picture


@dataclass(frozen=True)
class ReportRequest:
    """What a report is to be about.

    channels: their names; all if empty. at: raw values for worked solutions; the quarters of the
    range if empty. look, series: of a log, if there is one. marks: of a calibration, by channel.
    changes: of a what-if.
    """

    bench: Bench
    channels: Sequence[str] = ()
    at: Sequence[float] = ()
    computed: Sequence[str] = ()
    log: str = ""
    look: Look | None = None
    series: Sequence[Series] = ()
    turns: Sequence[Sequence[str]] = ()
    marks: Mapping[str, Marks] = field(default_factory=dict)
    changes: Mapping[str, str] = field(default_factory=dict)
    findings: Sequence[Finding] = ()
    comparisons: Sequence[Comparison] = ()
    made_from: Sequence[tuple[str, str]] = ()
    """What is at its end: the bench file, the log, the version, the date."""


def content(wanted: ReportRequest) -> Iterator[Block]:
    """The blocks of a report, in order."""
    names = list(wanted.channels) or list(wanted.bench.channels)
    for name in names:
        yield from _channel(wanted.bench[name], wanted)
    for name in wanted.computed:
        yield from _computed(wanted.bench.derived[name])
    for drive in wanted.bench.drives.values():
        if drive.source in names or drive.source in wanted.computed:
            yield from _drive(drive, wanted.bench)
    if wanted.look is not None:
        yield from _log(wanted, names)
    for comparison in wanted.comparisons:
        yield from _comparison(comparison)
    checked = check(wanted.bench)
    found = [f for f in checked if not wanted.channels or _about(f, names)]
    found += wanted.findings
    yield Heading("Findings", 1)
    yield from _findings(found)
    if checked.injected:
        yield Heading("Expected rows")
        rows = [list(row) for row in injected_rows(checked.injected)]
        yield TableBlock(INJECTED_COLUMNS, rows, words=True)
    yield Heading("Parameters", 1)
    rows = [row for name in names for row in _parameters(wanted.bench[name])]
    yield TableBlock(("channel", "law", "parameter", "value", "from"), rows, words=True)
    if wanted.made_from:
        yield Heading("Made from", 1)
        yield TableBlock(("what", "which"), [list(row) for row in wanted.made_from], words=True)


def _about(finding: Finding, names: Sequence[str]) -> bool:
    return any(name in finding.where for name in names)


def _channel(channel: Channel, wanted: ReportRequest) -> Iterator[Block]:
    title = channel.name + (f": {channel.about}" if channel.about else "")
    yield Heading(title, 1)
    points = [at for at in wanted.at if _gives(channel, at)] or _quarters(channel)
    middle = points[len(points) // 2] if points else None
    name, ranged = channel.name, _has_range(channel)
    yield Picture(f"{name}-circuit", "The circuit.", circuit_figure(channel, middle))
    if ranged:
        figure = ruler_figure(channel, middle, trips=list(wanted.bench.trips.values()))
        yield Picture(f"{name}-ruler", "Raw and true values.", figure, slides=channel)
    if points:
        yield Heading("Worked solutions")
        yield from (Worked(str(channel.ruler.trace(at))) for at in points)
    if ranged:
        yield Heading("The curve, and what one count is worth")
        yield Picture(f"{name}-curve", "Value, and its slope.", curve_figure([(channel, middle)]))
    else:
        yield Text("The range of its raw values is not known: no ruler and no curve are drawn.")
    if channel.ruler.label(0.0) is not None:
        yield Text("A zone is no number, so it has no budget.")
    elif not ranged:
        yield Text("The range of its raw values is not known: there is no budget over it.")
    else:
        yield from _uncertainty(channel, points, wanted)
    if name in wanted.marks:
        yield from _calibration(calibrate(channel, wanted.marks[name]), channel)


def _computed(channel: DerivedChannel) -> Iterator[Block]:
    """A channel that is computed from others: its formula, and how it is worked out where each of
    them is in the middle of its range."""
    yield Heading(channel.name + (f": {channel.about}" if channel.about else ""), 1)
    names = " and ".join(source.name for source in channel.sources)
    unit = symbol(channel.unit)
    formula = channel.combined.expression
    yield Text(f"Computed from {names}: {formula}" + (f", in {unit}." if unit else "."))
    quarters = {measured.name: _quarters(measured) for measured in channel.measured}
    if not all(quarters.values()):
        missing = ", ".join(name for name, found in quarters.items() if not found)
        yield Text(f"The range of {missing} is not known: no worked solution is possible.")
        return
    at = {name: found[len(found) // 2] for name, found in quarters.items()}
    yield Heading("Worked solution")
    yield from (Worked(str(trace)) for trace in channel.trace_from(at))
    found = budget(channel, dict(at))
    if found.rows:
        yield Heading("How far to trust it")
        yield Text(f"{found.headline}.")
        yield from (TableBlock(part.headings, part.rows) for part in found.content
                    if isinstance(part, TextTable))  # fmt: skip


def _drive(drive: Drive, bench: Bench) -> Iterator[Block]:
    """What a drive makes of its channel: the chain to its command, and what else it does."""
    yield Heading(f"Drive {drive.name}" + (f": {drive.about}" if drive.about else ""), 1)
    try:
        channel = command_channel(bench, drive)
    except JetRulerError as error:
        yield Text(f"{error}.")
        return
    points = _quarters(channel)
    if _has_range(channel):
        middle = points[len(points) // 2] if points else None
        figure = ruler_figure(channel, middle)
        yield Picture(f"drive-{drive.name}-ruler", "Raw value and command.", figure, slides=channel)
    if points:
        yield Worked(str(channel.ruler.trace(points[len(points) // 2])))
    for line in beside_commands(bench, drive):
        yield Text(f"{line[0].upper()}{line[1:]}.")


def _has_range(channel: Channel) -> bool:
    try:
        raw_ends(channel.ruler)
    except JetRulerError:
        return False
    return True


def _gives(channel: Channel, at: float) -> bool:
    return math.isfinite(float(channel.ruler(at)))


def _quarters(channel: Channel) -> list[float]:
    """Raw values at the quarters of the range that reads something within the limits and the
    clamp: what is beyond would be the same end three times."""
    if not _has_range(channel):
        return []
    raw = np.asarray(raw_samples(channel.ruler), np.float64)
    reading = channel.ruler.read(raw)
    flags, there = np.asarray(reading.flags), np.isfinite(np.asarray(reading.value, np.float64))
    inside = there & (flags == 0) if np.any(there & (flags == 0)) else there
    if not inside.any():
        return []
    low, high = float(raw[inside][0]), float(raw[inside][-1])
    whole = channel.ruler.edge is None or not channel.ruler.edge.lsb or high - low >= 4
    quarters = [low + (high - low) * part / 4 for part in (1, 2, 3)]
    quarters = [float(round(raw)) for raw in quarters] if whole and high - low >= 8 else quarters
    return [at for at in quarters if _gives(channel, at)]


def _uncertainty(
    channel: Channel, points: Sequence[float], wanted: ReportRequest
) -> Iterator[Block]:
    noise, stated = channel.noise, "The channel states"
    if noise is None and wanted.look is not None:
        noise, stated = _noise_in(wanted.look, channel), "The log shows"
    every = [budget(channel, at, noise=noise) for at in points]
    if not any(found.rows for found in every):
        return
    yield Heading("How far to trust it")
    if noise:
        unit = channel.chain.takes
        yield Text(f"{stated} a noise of {shown(significant(noise, 3), unit)} for one reading.")
    else:
        yield Text("No noise is stated, and the budgets have none.")
    budgets = [found for found in every if found.rows and math.isfinite(found.combined)]
    for found in every:
        yield Text(f"At {number(found.at)}: {found.headline}.")
        if found not in budgets:
            continue
        yield _table(found, ("source", "size", "standard", "effect", "fraction", "kind"))
    if not budgets:
        return
    picture = budget_figure(channel, budgets)
    yield Picture(f"{channel.name}-budget", "The sources of uncertainty.", picture)
    changes = {n: v for n, v in wanted.changes.items() if has_parameter(channel, n)}
    for found in budgets if changes else ():
        with_part = what_if(channel, found.at, changes)
        yield Text(f"At {number(found.at)}, {with_part.headline}.")
        yield _table(with_part, ("source", "before", "after"))


def _noise_in(look: Look, channel: Channel) -> float | None:
    """The noise of a channel in a log, in its raw unit; None where the log does not tell it."""
    column = look.columns.get(channel.name)
    noise = None if column is None else column.survey.noise
    return noise if noise is not None and math.isfinite(noise) else None


def _calibration(found: Calibration, channel: Channel) -> Iterator[Block]:
    yield Heading("Calibration")
    yield Text(f"{found.headline}.")
    yield _table(found)
    picture = fit_figure(found)
    yield Picture(f"{channel.name}-calibration", "The marks and their residuals.", picture)


def _comparison(found: Comparison) -> Iterator[Block]:
    first, second = found.names
    yield Heading(f"Comparison of {first} and {second}", 1)
    yield Text(f"{found.headline}.")
    yield Worked(str(found))
    picture = compare_figure(found)
    yield Picture(f"{first}-{second}", "Differences against their mean.", picture)


def _log(wanted: ReportRequest, names: Sequence[str]) -> Iterator[Block]:
    assert wanted.look is not None
    yield Heading(f"The log {wanted.log}", 1)
    yield Text(f"{many(wanted.look.rows, 'row')}. {_pace(wanted.look)}".strip())
    yield _table(wanted.look)
    yield TableBlock(MEANS, [each.mean_row() for each in wanted.look.columns.values()])
    if wanted.series:
        yield Picture("log", "The log, raw and converted.", log_figure(wanted.series))
    if wanted.turns:
        yield Heading("Trips")
        yield TableBlock(("time", *EVENT_COLUMNS), wanted.turns, words=True)


def _pace(look: Look) -> str:
    if look.time is None or not look.time.interval > 0:
        return ""
    every = look.time.interval
    return f"A sample every {number(every, 6)} s ({number(1 / every, 4)} Hz)."


def _findings(found: Sequence[Finding]) -> Iterator[Block]:
    if not found:
        yield Text("Nothing was found.")
        return
    yield TableBlock(FINDING_COLUMNS, finding_rows(Findings.of(found)), words=True)


def _table(found: Result, only: Sequence[str] = ()) -> TableBlock:
    """A result as its table, numbers to five digits."""
    table = {k: list(v) for k, v in found.table.items() if not only or k in only}
    if "fraction" in table:
        table["fraction"] = [f"{100 * part:.1f} %" for part in table["fraction"]]
    rows = [list(map(_cell, row)) for row in zip(*table.values(), strict=True)]
    return TableBlock(tuple(key.replace("_", " ") for key in table), rows)


def _cell(value: Any) -> str:
    if isinstance(value, bool) or value is None:
        return "" if value is None else str(value).lower()
    if isinstance(value, int | float):
        return "–" if value != value else number(significant(value, 5))
    return str(value)


def _parameters(channel: Channel) -> Iterator[list[str]]:
    """Every parameter of a channel's laws, with where it comes from."""
    for law in channel.chain.laws:
        defaults = {f.name: f.default for f in dataclasses.fields(law)}  # type: ignore[arg-type]
        for name, hint in parameters(type(law)).items():
            value = getattr(law, name)
            if value is None or name == "unit":
                continue
            unit = hint_unit(hint)
            source = "default" if value == defaults[name] else "bench file"
            yield [channel.name, law.name, name, _value(value, unit.symbol if unit else ""), source]


def _value(value: Any, unit: str, nested: bool = False) -> str:
    if isinstance(value, Toleranced) or (unit and isinstance(value, int | float)):
        return with_tolerance(value, symbol(unit))
    if isinstance(value, tuple):
        parts = ", ".join(_value(part, unit, nested=True) for part in value)
        return f"({parts})" if nested else parts
    if isinstance(value, bool):
        return str(value).lower()
    return number(value) if isinstance(value, int | float) else str(value)


Form = Literal["html", "md", "tex"]
FORMS: tuple[Form, ...] = ("html", "md", "tex")
#: What the pictures beside each form are.
PICTURES: Mapping[Form, str] = {"html": "svg", "md": "svg", "tex": "png"}

#: Signs that mean something to LaTeX, and those that an old one does not have.
_TEX = {
    **{sign: f"\\{sign}" for sign in "&%$#_{}"},
    "\\": r"\textbackslash{}",
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "Ω": r"\ensuremath{\Omega}",
    "°": r"\ensuremath{^\circ}",
    "±": r"\ensuremath{\pm}",
    "−": r"\ensuremath{-}",
    "·": r"\ensuremath{\cdot}",
    "µ": r"\ensuremath{\mu}",
    "×": r"\ensuremath{\times}",
    "≤": r"\ensuremath{\leq}",
    "≥": r"\ensuremath{\geq}",
    "→": r"\ensuremath{\rightarrow}",
    "√": r"\ensuremath{\surd}",
    "…": r"\ldots{}",
    "∞": r"\ensuremath{\infty}",
    "–": "--",
    "²": r"\ensuremath{^2}",
    "³": r"\ensuremath{^3}",
    "₀": r"\ensuremath{_0}",
    "₁": r"\ensuremath{_1}",
    "₂": r"\ensuremath{_2}",
    "₃": r"\ensuremath{_3}",
    "⁻": r"\ensuremath{^-}",
    "¹": r"\ensuremath{^1}",
    "α": r"\ensuremath{\alpha}",
    "β": r"\ensuremath{\beta}",
    "Δ": r"\ensuremath{\Delta}",
}


def tex(text: str) -> str:
    """Text for LaTeX."""
    return "".join(_TEX.get(sign, sign) for sign in _safe(text))


def md(text: str) -> str:
    """Text for Markdown, also within a table."""
    return re.sub(r"([\\`*_{}\[\]<>#|])", r"\\\1", _safe(text)).replace("\n", " ")


def fence(text: str) -> str:
    """What is around a block of plain text in Markdown: longer than any such sign in it."""
    return "`" * max(3, 1 + max(map(len, re.findall("`+", text)), default=0))


def link(path: str, form: Form) -> str:
    """A path in a report, as a link of its format."""
    return path if form == "tex" else quote(path)


def _safe(text: str) -> str:
    return "\n".join(map(printable, text.split("\n")))


def _environment(form: Form) -> Environment:
    loader = PackageLoader("jetruler.show", "templates")
    common: dict[str, Any] = {"undefined": StrictUndefined, "keep_trailing_newline": True}
    if form == "html":
        return Environment(loader=loader, autoescape=True, **common)
    if form == "tex":
        common |= {"block_start_string": "<%", "block_end_string": "%>"}
        common |= {"variable_start_string": "<<", "variable_end_string": ">>"}
        common |= {"comment_start_string": "<#", "comment_end_string": "#>"}
    found = Environment(
        loader=loader, autoescape=False, trim_blocks=True, lstrip_blocks=True, **common
    )
    found.filters |= {"md": md, "tex": tex, "fence": fence, "safe_text": _safe}
    return found


def written(
    title: str, blocks: Sequence[Block], form: Form, folder: str
) -> tuple[str, dict[str, bytes]]:
    """Return the text of a report, and the files that are beside it, by name. folder: where
    those are, as the text names it."""
    kind = PICTURES[form]
    files: dict[str, bytes] = {}
    pictures: dict[str, str] = {}
    first = True  # of the sliders of a page, one brings their script
    for block in blocks:
        if isinstance(block, Picture) and block.slides is not None and form == "html":
            pictures[block.name] = slider(block.slides, script=first)
            first = False
        elif isinstance(block, Picture):
            data = rendered(block.figure, kind)
            if form == "html":
                pictures[block.name] = _inline(data.decode(), block.name)
            else:
                files[f"{block.name}.{kind}"] = data
                pictures[block.name] = link(f"{folder}/{block.name}.{kind}", form)
    template = _environment(form).get_template(f"report.{form}")
    text = template.render(title=title, blocks=blocks, pictures=pictures)
    if form != "html":
        text = re.sub(r"\n{3,}", "\n\n", text)
    return text, files


def _inline(svg: str, name: str) -> str:
    """An SVG that can be beside others in one page: without its head, its names its own."""
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r'\bid="([^"]+)"', rf'id="{name}-\1"', svg)
    svg = re.sub(r'(xlink:href|href)="#([^"]+)"', rf'\1="#{name}-\2"', svg)
    return re.sub(r"url\(#([^)]+)\)", rf"url(#{name}-\1)", svg)
