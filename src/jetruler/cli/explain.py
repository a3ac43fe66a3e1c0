"""`jetruler explain`: the worked solution, from a count to a value or back."""

from __future__ import annotations

import math
import shutil
from typing import TYPE_CHECKING, Any

import click
from rich.text import Text

from ..core.bench.channel import Channel, raw_from
from ..core.error_types import JetRulerError, ParameterError
from ..core.result import Title
from ..core.ruler.raw_range import raw_ends
from ..core.ruler.reading import Trace
from ..core.ruler.units import number, raw_symbol, shown, symbol
from ..show.ticks import in_use, round_values, true_ticks
from .options import bench_option, load, read_value, shown_channel
from .streams import AMBER, BODY, CURSOR, as_shown, echo, show, show_json

if TYPE_CHECKING:
    from ..core.bench.derived import DerivedChannel
    from ..core.result import Result
    from ..core.uncertainty.budget_result import Budget
    from ..core.uncertainty.simulate import Simulation
    from ..core.uncertainty.what_if import WhatIf


@click.command()
@click.argument("channel")
@click.option(
    "--at",
    "raws",
    multiple=True,
    metavar="RAW",
    help='Work out this raw value: a count, "50 %", "3.42 V" (repeatable).',
)
@click.option(
    "--for", "wanted", metavar="VALUE", help="Work back from this value to its raw value."
)
@click.option(
    "--budget", "with_budget", is_flag=True, help="Show the uncertainty budget, source by source."
)
@click.option("--noise", metavar="RAW", help="With --budget: noise of one reading (1 sigma).")
@click.option(
    "--readings", type=float, metavar="N", help="With --budget: number of readings averaged."
)
@click.option(
    "--dof",
    "--degrees",
    "dof",
    type=float,
    metavar="N",
    help="With --noise: its degrees of freedom.",
)
@click.option(
    "--level", type=float, metavar="P", help="With --budget: level of confidence, 0.95 by default."
)
@click.option(
    "--draws", metavar="N", help="With --budget: check by N random draws, or until `stable`."
)
@click.option(
    "--with",
    "changes",
    multiple=True,
    metavar="P=VALUE",
    help="With --budget: the budget with another part.",
)
@click.option("--joint", metavar="UNIT", help="With --budget: the budget at this joint: V, ohm.")
@click.option("--every", metavar="STEP", help='Print a value table in this step: 64, "5 degC".')
@click.option("--over", metavar="LOW:HIGH", help="With --every: range of raw values in the table.")
@click.option(
    "--as",
    "layout",
    type=click.Choice(("text", "csv", "latex")),
    default="text",
    help="With --every: format of the table.",
)
@click.option(
    "--arith", metavar="KIND", help="Show how a chip computes it: int16, int32, uint16, float32…"
)
@click.option("--int-bits", type=int, metavar="N", help="With --arith: bits of an int, 16 or 32.")
@click.option(
    "--language", metavar="L", help="With --arith: language of the corrected line: c, python or st."
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
@bench_option
def explain_command(
    channel: str,
    raws: tuple[str, ...],
    wanted: str | None,
    with_budget: bool,
    as_json: bool,
    bench_path: str,
    draws: str | None,
    changes: tuple[str, ...],
    arith: str | None,
    int_bits: int | None,
    language: str | None,
    joint: str | None,
    every: str | None,
    over: str | None,
    layout: str,
    **given: float | None,
) -> None:
    """Show the worked solution of CHANNEL: every law with its formula, numbers and result. A
    drive's name explains its command.

    \b
    jetruler explain bean --at 1880
    jetruler explain bean --at "1.51 V" --at "80 kohm"
    jetruler explain bean --for 225
    jetruler explain bean --at 1880 --budget --noise 1.4 --readings 16 --draws stable
    jetruler explain bean --at 1880 --budget --joint ohm
    jetruler explain bean --every "5 degC" --over 400:3900 --as csv
    jetruler explain bean --at 400 --budget --with "r0 = 100 kohm ± 1 %"
    jetruler explain damper --at 1880 --arith int16
    jetruler explain flap --at 1880
    jetruler explain power --at "u=1880, i=900" --budget
    """
    if bool(raws) + (wanted is not None) + (every is not None) != 1:
        raise JetRulerError("explain: expected one of --at RAW, --for VALUE and --every STEP")
    if every is None and (over is not None or layout != "text"):
        raise JetRulerError("--over, --as: expected --every too")
    if every is not None:
        show_table(shown_channel(load(bench_path), channel), every, over, layout, as_json)
        return
    wants: dict[str, Any] = {name: value for name, value in given.items() if value is not None}
    if not with_budget and (wants or draws is not None or changes or joint is not None):
        options = "--noise, --readings, --dof, --level, --draws, --joint, --with"
        raise JetRulerError(f"{options}: expected --budget too")
    if arith is None and (int_bits is not None or language is not None):
        raise JetRulerError("--int-bits, --language: expected --arith too")
    bench = load(bench_path)
    if channel in bench.derived:
        not_there = [arith, wanted, draws, joint, *changes, *(wants.keys() - {"level"})]
        if any(option is not None for option in not_there):
            raise JetRulerError(
                f"{channel}: expected --at, --budget or --level, as it is computed, found others"
            )
        explain_derived(bench.derived[channel], raws, with_budget, as_json, **wants)
        return
    chosen = shown_channel(bench, channel)
    starts: list[float | None] = [raw_from(chosen, raw, "--at") for raw in raws]
    found = []
    for i, at in enumerate(starts or [None]):
        solution = solve(chosen, at, wanted)
        count = solution.start if wanted is None else solution.reading.value
        if i and not as_json:
            show([""])
        if arith is not None:
            found.append(_typed_in(
                chosen, count, arith, as_json, nearest=wanted is not None,
                int_bits=int_bits or 16, language=language or "c",
            ))  # fmt: skip
            continue
        trusted: dict[str, Result] = {}
        if with_budget:
            trusted["budget"] = budget(chosen, count, **wants, joint=joint)
            if draws is not None:
                trusted["simulation"] = drawn(chosen, count, draws, wants)
            if changes:
                trusted["what_if"] = what_if(chosen, count, changes_of(changes), **wants)
        if as_json:
            others = {name: each.to_dict() for name, each in trusted.items()}
            found.append(solution.to_dict() | others)
            continue
        show_solution(chosen, solution, back=wanted is not None)
        if channel in bench.drives:
            from ..core.bench.command_chain import beside_commands

            show(beside_commands(bench, bench.drives[channel]))
        for each in trusted.values():
            show(["", *each.content])
    if as_json:
        show_json(found if len(found) > 1 else found[0])


def explain_derived(
    channel: DerivedChannel, raws: tuple[str, ...], with_budget: bool, as_json: bool, **given: Any
) -> None:
    """Every source's lines, then its own."""
    found: list[Any] = []
    for i, text in enumerate(raws):
        at = {}
        for part in text.split(","):
            name, equals, raw = part.partition("=")
            if not equals or not raw.strip():
                names = ", ".join(f"{measured.name}=RAW" for measured in channel.measured)
                raise JetRulerError(f'--at: expected "{names}", found {text!r}')
            at[name.strip()] = raw.strip()
        traces = channel.trace_from(at)
        trusted = budget(channel, at, **given) if with_budget else None
        if as_json:
            own = {} if trusted is None else {"budget": trusted.to_dict()}
            found.append(
                {"sources": [t.to_dict() for t in traces[:-1]]} | traces[-1].to_dict() | own
            )
            continue
        about = {one.name: one.about for one in (*channel.measured, channel)}
        for j, trace in enumerate(traces):
            more = about.get(trace.channel, "")
            title = Title(trace.channel + (f": {more}" if more else ""))
            show([*([""] if i or j else []), title, *trace.content])
        if trusted is not None:
            show(["", *trusted.content])
    if as_json:
        show_json(found if len(found) > 1 else found[0])


def show_table(channel: Channel, every: str, over: str | None, layout: str, as_json: bool) -> None:
    """The channel as a table, a row a step."""
    from ..core.uncertainty.value_table import value_table

    ends = None
    if over is not None:
        low, colon, high = over.partition(":")
        if not colon or not low.strip() or not high.strip():
            raise JetRulerError(f"--over: expected LOW:HIGH, as in 0:4095, found {over!r}")
        ends = (low.strip(), high.strip())
    found = value_table(channel, every, ends)
    if as_json:
        show_json(found.to_dict())
    elif layout == "text":
        show(found.content)
    else:
        click.echo(found.to_csv() if layout == "csv" else found.to_latex(), nl=False)


def budget(channel: Channel, at: Any, **given: Any) -> Budget:
    """How far to trust a reading."""
    from ..core.uncertainty.budget import budget as found

    return found(channel, at, **given)


def drawn(channel: Channel, at: float, draws: str, given: dict[str, Any]) -> Simulation:
    """The same by Monte Carlo."""
    from ..core.uncertainty.simulate import simulate

    if draws != "stable" and not draws.isdecimal():
        raise JetRulerError(f"--draws: expected a whole number or `stable`, found {draws!r}")
    return simulate(channel, at, draws=None if draws == "stable" else int(draws), **given)


def changes_of(texts: tuple[str, ...]) -> dict[str, str]:
    """What `--with` says, by parameter."""
    found = {}
    for text in texts:
        name, equals, value = text.partition("=")
        if not equals or not name.strip() or not value.strip():
            expected = "P=VALUE, as in 'r0 = 100 kohm ± 1 %'"
            raise JetRulerError(f"--with: expected {expected}, found {text!r}")
        found[name.strip()] = value.strip()
    return found


def what_if(channel: Channel, at: float, changes: dict[str, str], **given: float) -> WhatIf:
    """The budget with other parts."""
    from ..core.uncertainty.what_if import what_if as compared

    return compared(channel, at, changes, **given)


def _typed_in(
    channel: Channel,
    at: float,
    arith: str,
    as_json: bool,
    nearest: bool,
    int_bits: int,
    language: str,
) -> dict[str, Any]:
    """The chain as a chip computes it."""
    from ..core.firmware.naive import naive

    if not math.isfinite(at):
        raise JetRulerError(f"--arith: no raw value of {channel.name} reads this")
    edge = channel.ruler.edge
    if nearest and edge is not None and edge.lsb:  # a way back ends between two counts
        at = round(at / edge.lsb) * edge.lsb
    found = naive(channel, at, arith, int_bits=int_bits, language=language)
    if not as_json:
        show(found.content)
    return found.to_dict()


def solve(channel: Channel, at: float | None, wanted: str | None) -> Trace:
    """The trace in the direction that was asked."""
    if wanted is None:
        return channel.trace(at if at is not None else math.nan)
    value = read_value("--for", wanted, channel.unit)
    if not math.isfinite(value):
        raise JetRulerError(f"--for: expected a finite value, found {wanted!r}")
    return channel.trace_back(value)


def show_solution(channel: Channel, solution: Trace, back: bool) -> None:
    """The solution and the ruler for people."""
    from ..core.choose.resistor import loads_at

    title = channel.name + (f": {channel.about}" if channel.about else "")
    show([Title(title), *solution.content])
    count = solution.start
    if not back and (loads := loads_at(channel, count)):
        echo(loads)
    if back:
        count = solution.reading.value
        echo(nearest_count(channel, solution))
    try:
        raw_ends(channel.ruler)
    except ParameterError:
        return
    width = max(60, min(shutil.get_terminal_size().columns, 100))
    for line in ruler_lines(channel, None if math.isnan(count) else count, width):
        echo(line)


def nearest_count(channel: Channel, solution: Trace) -> str:
    """A way back ends between two counts, or outside the converter: say so."""
    raw = solution.reading.value
    unit = channel.ruler.takes
    if math.isnan(raw):
        noun = "count" if unit == "count" else "raw value"
        return f"no {noun} reads {number(solution.start)} {symbol(channel.unit)}".rstrip()
    if unit != "count":
        return f"the raw value is {shown(raw, unit)}"
    low, high = round(raw), math.floor(raw) if round(raw) > raw else math.ceil(raw)
    reads = channel.shown(channel.ruler(low))
    step = abs(channel.ruler(high) - channel.ruler(low))
    text = f"the nearest count is {low}, which gives {reads}"
    return text if not step > 0 else f"{text}; one count is {number(step)} {symbol(channel.unit)}"


#: A tick or label: its column, and its text.
Mark = tuple[int, str]


def ruler_lines(channel: Channel, count: float | None, width: int) -> list[Text]:
    """The ruler of a channel, `width` characters wide, with its cursor at a count."""
    unit = as_shown(symbol(channel.unit))
    raw_unit = as_shown(raw_symbol(channel.ruler.takes))
    margin = max(len(raw_unit), len(unit)) + 2
    inner = max(width - margin - 3, 20)
    ends = raw_ends(channel.ruler)
    low, high = in_use(channel, ends, count)

    def column(raw: float) -> int:
        return round((raw - low) / (high - low) * (inner - 1))

    raw_marks = [
        (column(value), as_shown(number(value))) for value in round_values(low, high, inner // 8)
    ]
    ticks = true_ticks(channel.ruler, inner // 5, channel.limits)
    ticks = [tick for tick in ticks if low <= tick.raw <= high]
    true_marks = [(column(tick.raw), as_shown(tick.label)) for tick in ticks]
    lined = [(column(tick.raw), "") for tick in ticks if tick.is_line]
    before = " " * (margin - 1)
    at = column(count) if count is not None and low <= count <= high else None
    lines = [
        Text(f"{raw_unit:>{margin - 2}}  {_labels(raw_marks, inner)}"),
        Text(before) + _edge(raw_marks, "┬", inner, at, "▼"),
        Text(before) + _edge(lined, "┴", inner, at, "▲"),
        Text(f"{unit:>{margin - 2}}  {_labels(true_marks, inner)}"),
    ]
    if at is not None and count is not None:
        value = as_shown(channel.shown(channel.ruler(count)))
        above, below = (_centred(at, text, inner) for text in (as_shown(number(count)), value))
        lines.insert(0, Text(" " * margin + above, style=f"bold {AMBER}"))
        lines.append(Text(" " * margin + below, style=f"bold {AMBER}"))
    if (low, high) != ends:
        part = f"{number(math.ceil(low))} to {number(math.floor(high))} {raw_unit}"
        lines.append(Text(f"the part in use: {part} of {number(ends[0])} to {number(ends[1])}"))
    for line in lines:
        line.rstrip()
    return lines


def _edge(marks: list[Mark], tick: str, inner: int, at: int | None, cursor: str) -> Text:
    cells = [" "] * inner
    for place, _ in marks:
        cells[place] = tick
    line = Text("▕" + "".join(cells) + "▏", style=BODY)
    if at is None:
        return line
    return line[: at + 1] + Text(cursor, style=CURSOR) + line[at + 2 :]


def _labels(marks: list[Mark], inner: int) -> str:
    """Labels centred under their ticks; one that would touch its neighbour is left out."""
    line = [" "] * (inner + 8)
    free_from = 0
    for place, label in marks:
        start = max(place - len(label) // 2, 0)
        if start >= free_from and start + len(label) <= inner + 2:
            line[start : start + len(label)] = label
            free_from = start + len(label) + 1
    return "".join(line).rstrip()


def _centred(place: int, label: str, inner: int) -> str:
    start = min(max(place - len(label) // 2, 0), max(inner - len(label) + 2, 0))
    return " " * start + label
