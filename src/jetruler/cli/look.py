"""`jetruler look`: what the raw samples do, before anyone converts them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.error_types import JetRulerError
from ..core.model.text import number
from ..core.model.units import symbol
from .common import load
from .log_options import Given, form_of, log_options
from .progress import progress_bar
from .streams import echo, show, show_json

if TYPE_CHECKING:
    from ..core.model.channel import Bench
    from ..logs.look_result import Look


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
@log_options
def command(
    log: str,
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
    """
    from ..logs.look_at_log import look
    from ..samples.source import ColumnError

    if ends is None and (write or margin is not None or backward):
        raise JetRulerError("--write, --margin and --reversed go with --ends CHANNEL")
    named = bench_path is not None or write
    if bench_path is None and (write or Path("bench.toml").exists()):
        bench_path = "bench.toml"
    bench = load(bench_path) if bench_path is not None else None
    form = form_of(given, bench)
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
        show_json(found.to_dict())
    else:
        show(found.content)


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
