"""`jetruler look`: what the raw samples do, before anyone converts them."""

from __future__ import annotations

import dataclasses
import math
import shutil
import sys
import textwrap
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ..core.error_types import JetRulerError
from ..core.model.text import number
from ..core.model.units import symbol
from .common import load
from .convert import format_options, log_format
from .streams import as_shown, echo, show_json
from .summary_text import progress_bar
from .tables import print_table

if TYPE_CHECKING:
    from collections.abc import Sequence

    from ..core.model.channel import Bench
    from ..core.survey.finding import Finding
    from ..logs.look_at_log import ColumnLook, Look

#: Of error, warning and note: the palette's red, a darker amber that reads on white, its blue.
GRAVITY_COLORS = ((200, 50, 30), (185, 122, 0), (31, 111, 180))


@click.command()
@click.argument("log", metavar="LOG")
@click.option(
    "-b", "--bench", "bench_path", metavar="FILE", help="Default: bench.toml, if it is of this log."
)
@click.option(
    "--ends", "ends", metavar="CHANNEL", help="The marks that this channel's travel shows."
)
@click.option("--margin", type=float, metavar="RAW", help="With --ends: draw the ends in by this.")
@click.option("--reversed", "backward", is_flag=True, help="With --ends: the high count is 0 %.")
@click.option("--write", is_flag=True, help="With --ends: put the marks into the bench file.")
@click.option("--json", "as_json", is_flag=True, help="For programs.")
@format_options
def command(
    log: str,
    bench_path: str | None,
    ends: str | None,
    margin: float | None,
    backward: bool,
    write: bool,
    as_json: bool,
    delimiter: str | None,
    decimal_comma: bool,
    no_header: bool,
    kind: str | None,
) -> None:
    """What the raw samples of LOG do: ends, noise, rails, the fraction of the range in use.

    \b
    jetruler look roast.csv -b bench.toml
    jetruler look roast.csv --ends damper --write
    """
    from ..logs.look_at_log import look
    from ..logs.source import ColumnError

    if ends is None and (write or margin is not None or backward):
        raise JetRulerError("--write, --margin and --reversed go with --ends CHANNEL")
    named = bench_path is not None or write
    if bench_path is None and (write or Path("bench.toml").exists()):
        bench_path = "bench.toml"
    bench = load(bench_path) if bench_path is not None else None
    form = log_format(delimiter, decimal_comma, no_header, kind)
    try:
        with progress_bar(log) as progress:
            found = look(log, bench, form=form, progress=progress)
    except ColumnError as error:
        if named:
            raise
        with progress_bar(log) as progress:  # nobody asked for this bench: it is of another log
            found = look(log, None, form=form, progress=progress)
        echo(f"looked at without {bench_path}, which is of another log: {error}", err=True)
        bench = None
    if ends is not None:
        show_ends(
            found,
            bench,
            name=ends,
            margin=margin,
            backward=backward,
            write_to=bench_path if write else None,
        )
    elif as_json:
        show_json(as_dict(found))
    else:
        show_look(found)


def show_ends(
    found: Look,
    bench: Bench | None,
    name: str,
    margin: float | None,
    backward: bool,
    write_to: str | None,
) -> None:
    """Print the marks line of a channel or column, and write it if asked."""
    from ..core.model.text import nearest
    from ..core.survey.ends import NothingMovedError, ends_of, true_ends

    if name not in found.columns:
        raise JetRulerError(f"--ends: found {name!r}; {nearest(name, found.columns)}")
    try:
        ends = ends_of(found.columns[name].survey, margin)
    except NothingMovedError as error:
        raise JetRulerError(f"{name}: {error}") from None
    low, high = true_ends(None if bench is None else bench.channels.get(name))
    at_low, at_high = (high, low) if backward else (low, high)
    if write_to is None:
        click.echo(ends.line(at_low, at_high))
    else:
        from ..benchfile.edit import write_marks

        before, after = write_marks(write_to, name, ends.marks(at_low, at_high))
        click.echo(f"{write_to}, channel.{name}:\n- {before}\n+ {after}")
    survey = found.columns[name].survey
    unit = "counts" if survey.unit == "count" else symbol(survey.unit)
    click.echo(
        f"travel {number(survey.low_end)} to {number(survey.high_end)}, drawn in by "
        f"{ends.margin:.2g} {unit} (noise {survey.noise:.2g}), so that both ends are reached",
        err=True,
    )
    rests = ((survey.on_low_rail, survey.lowest), (survey.on_high_rail, survey.highest))
    for rail in (rail for fraction, rail in rests if fraction > RESTING):
        click.echo(
            f"it rests on the rail at {number(rail)}: it saturates before its stop, or its wire "
            "was off",
            err=True,
        )


def show_look(found: Look) -> None:
    """A row a column, what a lab report asks for, the time column, then the findings."""
    from ..logs.mean_rows import MEANS, mean_row

    wide = not sys.stdout.isatty() or shutil.get_terminal_size().columns >= 104
    shown = [i for i in range(len(HEADINGS)) if wide or i not in LEFT_OUT]
    rows = [[row[i] for i in shown] for row in map(_row, found.columns.values())]
    echo(f"{found.rows} rows")
    print_table([HEADINGS[i] for i in shown], rows, left=HEADINGS[:1])
    echo()
    print_table(MEANS, [mean_row(each) for each in found.columns.values()], left=MEANS[:1])
    if found.time is not None:
        time = found.time
        rate = f" ({1 / time.interval:.4g} Hz)" if time.interval > 0 else ""
        echo(
            f"{time.name}: every {time.interval:.6g} s{rate}, jitter {time.jitter:.2g} s, "
            f"{time.gaps} gaps, {time.steps_back} steps back, {time.repeats} repeats"
        )
    if found.torn_rows:
        echo(f"{found.torn_rows} rows with too few or too many fields")
    if found.left_out:
        echo(f"not looked at, no counts: {', '.join(found.left_out)}")
    echo()
    show_findings(found.findings)


def show_findings(findings: Sequence[Finding]) -> None:
    """One below the other; wrapped beside their severity in a terminal, a line each elsewhere."""
    columns = shutil.get_terminal_size().columns if sys.stdout.isatty() else 0
    for finding in findings:
        text = as_shown(str(finding))
        if columns > 40:
            text = textwrap.fill(text, columns - 8, break_long_words=False)
        color = GRAVITY_COLORS[finding.severity]
        severity = click.style(f"{finding.severity.name.lower():<7}", fg=color, bold=True)
        echo(f"{severity} {text}".replace("\n", "\n        "))


#: A sensor rests where so much of a log is.
RESTING = 0.01

#: The table's columns, and which are left out of a narrow terminal.
HEADINGS = [
    *("column", "missing", "ends", "robust ends", "mean", "median", "std dev"),
    *("noise", "bits", "range", "codes"),
]
LEFT_OUT = (1, 2, 4)


def _row(each: ColumnLook) -> list[str]:
    v = each.survey
    name = each.name if each.name == each.column else f"{each.name} ({each.column})"
    if v.unit not in ("count", "1"):
        name += f" in {symbol(v.unit)}"
    places = max(0, round(-math.log10(v.step)))
    ends = f"{v.smallest:.{places}f} … {v.largest:.{places}f}" if v.samples else "–"
    robust = f"{v.low_end:.{places}f} … {v.high_end:.{places}f}" if v.samples else "–"
    bits = f"{v.effective_bits:.1f} of {each.bits}" if each.bits else "–"
    bits += "?" if each.bits and each.bits_guessed else ""
    numbers = (v.mean, v.median, v.standard_deviation, v.noise)
    shown = ["–" if math.isnan(x) else _short(x) for x in numbers]
    return [
        name,
        str(v.missing),
        ends,
        robust,
        *shown,
        "–" if math.isnan(v.effective_bits) else bits,
        f"{v.range_fraction:.0%}" if v.range_fraction == v.range_fraction else "–",
        str(v.distinct),
    ]


def _short(x: float) -> str:
    return f"{x:.0f}" if abs(x) >= 1000 else f"{x:.4g}"


def as_dict(found: Look) -> Any:
    """For JSON; NaN is null."""
    from ..core.survey.unit_mean import unit_mean

    columns = {}
    for name, each in found.columns.items():
        v = each.survey
        numbers = {
            f.name: getattr(v, f.name)
            for f in dataclasses.fields(v)
            if f.name not in ("histogram", "known")
        }
        own = None if each.channel is None else unit_mean(v, each.channel)
        for stretch in ("stuck", "rail_stretch"):
            if numbers[stretch] is not None:
                numbers[stretch] = dataclasses.asdict(numbers[stretch])
        columns[name] = {
            "column": each.column,
            "bits": each.bits,
            "bits_guessed": each.bits_guessed,
            "empty": each.empty,
            "unreadable": each.unreadable,
            "fractional": each.fractional,
            "range_fraction": v.range_fraction if v.samples else None,
            "effective_bits": v.effective_bits,
            "independent": v.known.independent,
            "mean_half_width_95": v.known.half_width,
            "in_unit": None
            if own is None or each.channel is None
            else {
                "unit": each.channel.unit,
                "samples": own.samples,
                "mean": own.mean,
                "standard_deviation": own.standard_deviation,
                "mean_half_width_95": own.half_width,
            },
        } | numbers
    return _without_nan(
        {
            "rows": found.rows,
            "torn_rows": found.torn_rows,
            "columns": columns,
            "time": None if found.time is None else dataclasses.asdict(found.time),
            "findings": [
                {"severity": f.severity.name.lower(), "where": f.where, "what": f.what}
                | {"advice": f.remedy}
                for f in found.findings
            ],
        }
    )


def _without_nan(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _without_nan(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_without_nan(inner) for inner in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
