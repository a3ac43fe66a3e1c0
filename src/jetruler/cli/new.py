"""`jetruler new`: a commented bench file to start from."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from ..core.error_types import JetRulerError
from ..core.model.text import nearest
from .common import folder_of, is_port
from .log_options import Given, form_of, log_options
from .progress import progress_bar
from .streams import echo

if TYPE_CHECKING:
    from ..benchfile.starter import SeenColumn
    from ..core.model.log_format import LogFormat

#: Seconds that a port is listened to.
LISTENING = 3.0


@click.command()
@click.argument("path", default="bench.toml", metavar="[FILE]")
@click.option("--from", "log", metavar="LOG", help="One channel a column of this log, or port.")
@click.option(
    "--channel",
    "channels",
    multiple=True,
    metavar="NAME=KIND",
    help="A filled-in example (repeatable): ntc, platinum, knob, probe, percent, loop, rail, "
    "light, volts, counts, voltage, distance.",
)
@click.option("--bits", type=click.IntRange(1, 32), metavar="N", help="Of the converter.")
@click.option("--vref", metavar="VOLTS", help='Its reference: 5, or "3.3 V ± 1 %".')
@click.option("--baud", type=int, metavar="N", help="Of a serial port.")
@log_options
def command(
    path: str,
    log: str | None,
    channels: tuple[str, ...],
    bits: int | None,
    vref: str | None,
    baud: int | None,
    given: Given,
) -> None:
    """Write a commented bench file to FILE (default bench.toml). Never overwrites.

    \b
    jetruler new --channel a0=knob --bits 10 --vref 5
    jetruler new --from roast.csv --channel ch0=ntc --channel ch2=knob
    jetruler new --from /dev/ttyACM0 --bits 10 --vref 5
    """
    from ..benchfile.load import parse_bench
    from ..benchfile.starter import starter

    target = Path(path)
    folder_of(path)
    if target.exists():
        raise JetRulerError(f"{path}: this is there already, and new never overwrites")
    kinds = dict(_kind(text) for text in channels)
    seen = [] if log is None else _seen(log, form_of(given, None, baud=baud), bits)
    title = target.stem.replace("-", " ").capitalize() or "My bench"
    made = starter(kinds, seen, title, bits=bits, vref=vref, log=log or "")
    parse_bench(made.text, path)
    try:
        with target.open("x", encoding="utf-8", newline="\n") as file:
            file.write(made.text)
    except OSError as error:
        raise JetRulerError(f"{path}: cannot be written: {error.strerror}") from None
    for guess in made.guesses:
        echo(f"a guess: {guess}", err=True)
    name = next(iter(parse_bench(made.text, path).channels))
    echo(f"{path}: written. Next: jetruler explain {name} --at COUNT -b {path}", err=True)


def _seen(log: str, form: LogFormat, bits: int | None) -> list[SeenColumn]:
    """What a log, or a port that is listened to for some seconds, shows of its columns."""
    from ..benchfile.starter import SeenColumn
    from ..core.survey.codes import code_bits, repeats_bits
    from ..logs.look_at_log import look

    given: str | bytes = log
    if is_port(log):
        from ..live.listen import listen

        given = listen(log, form, seconds=LISTENING)
    with progress_bar(log) as progress:
        found = look(given, form=form, progress=progress)
    if found.said:
        echo(f"reading lines as: {found.said}", err=True)
    seen = []
    for each in found.columns.values():
        v = each.survey
        named = not found.unnamed and each.column.isprintable()
        column = each.column if named else each.place + 1
        if v.samples and each.bits is None:
            seen.append(SeenColumn(column, None, v.low_end, v.high_end, v.lsb))
        elif v.samples and each.bits is not None:
            low, high = int(v.low_end), int(v.high_end)
            codes = code_bits(v)
            step = 2 ** (each.bits - codes)
            repeats = step > 1 and repeats_bits(v, codes)
            own = each.bits if step > 1 else bits or each.bits
            seen.append(SeenColumn(column, own, low, max(high, low + 1), lsb=step, repeats=repeats))
    return seen


def _kind(text: str) -> tuple[str, str]:
    from ..benchfile.load import CHANNEL_NAME
    from ..benchfile.starter import KINDS

    name, equals, kind = text.partition("=")
    if not equals or not CHANNEL_NAME.fullmatch(name):
        raise JetRulerError(f"--channel: found {text!r}; NAME=KIND is right, as in bean=ntc")
    if kind not in KINDS:
        raise JetRulerError(f"--channel: found {kind!r} in {text!r}; {nearest(kind, KINDS)}")
    return name, kind
