"""`jetruler look`: what the raw samples do, before anyone converts them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.error_types import JetRulerError
from ..core.model.result import TextTable
from ..core.model.text import number
from ..core.model.units import symbol
from .common import load
from .log_options import Given, form_of, log_options
from .progress import progress_bar
from .streams import echo, show, show_json

if TYPE_CHECKING:
    from ..core.model.channel import Bench
    from ..core.model.log_format import LogFormat
    from ..logs.look_result import Look


#: Samples of a port that are looked at where nobody says how many.
BURST = 100


@click.command()
@click.argument("log", required=False, metavar="[LOG]")
@click.option("--source", metavar="PORT", help="Listen to a port instead of a log.")
@click.option("--samples", type=click.IntRange(2), metavar="N", help="With --source: so many.")
@click.option("--baud", type=int, metavar="N", help="With --source: of a serial port.")
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
@log_options
def command(
    log: str | None,
    source: str | None,
    samples: int | None,
    baud: int | None,
    bench_path: str | None,
    ends: str | None,
    margin: float | None,
    backward: bool,
    write: bool,
    as_json: bool,
    given: Given,
) -> None:
    """What the raw samples of LOG do: ends, noise, rails, the fraction of the range in use.

    \b
    jetruler look roast.csv -b bench.toml
    jetruler look roast.csv --ends damper --write
    jetruler look --source /dev/ttyACM0 --samples 100
    """
    from ..logs.look_at_log import look
    from ..samples.source import ColumnError

    if ends is None and (write or margin is not None or backward):
        raise JetRulerError("--write, --margin and --reversed go with --ends CHANNEL")
    named = bench_path is not None or write
    if bench_path is None and (write or Path("bench.toml").exists()):
        bench_path = "bench.toml"
    bench = load(bench_path) if bench_path is not None else None
    form = form_of(given, bench, baud=baud)
    if (log is None) == (source is None) or (source is None and samples is not None):
        raise JetRulerError("look: say either a LOG, or --source PORT, perhaps with --samples N")
    taken: str | bytes = log or _burst(str(source), form, samples or BURST)
    try:
        with progress_bar(log or "") as progress:
            found = look(taken, bench, form=form, progress=progress)
    except ColumnError as error:
        if named:
            raise
        with progress_bar(log or "") as progress:  # nobody asked for it: it is of another log
            found = look(taken, None, form=form_of(given, None), progress=progress)
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
        show_json(found.to_dict())
    else:
        show(found.content)
        if source is not None:
            rows = [row for each in found.columns.values() for row in each.in_every_unit()]
            show(["", TextTable(("mean in every unit", "at 95 %", "std dev"), rows)])


def _burst(source: str, form: LogFormat, samples: int) -> bytes:
    """So many lines of a source."""
    from ..live.listen import listen

    return listen(source, form, lines=samples)


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


#: A sensor rests where so much of a log is.
RESTING = 0.01
