"""`jetruler new`: a commented bench file to start from."""

from __future__ import annotations

from pathlib import Path

import click

from ..core.error_types import JetRulerError
from ..core.model.text import nearest
from .common import folder_of
from .log_options import Given, form_of, log_options
from .progress import progress_bar


@click.command()
@click.argument("path", default="bench.toml", metavar="[FILE]")
@click.option("--from", "log", metavar="LOG", help="One channel a column of this log.")
@click.option(
    "--channel",
    "channels",
    multiple=True,
    metavar="NAME=KIND",
    help="A filled-in example (repeatable): ntc, platinum, knob, loop, rail, light, volts, counts.",
)
@log_options
def command(
    path: str,
    log: str | None,
    channels: tuple[str, ...],
    given: Given,
) -> None:
    """Write a commented bench file to FILE (default bench.toml). Never overwrites.

    \b
    jetruler new --from roast.csv --channel ch0=ntc --channel ch2=knob
    """
    from ..benchfile.load import parse_bench
    from ..benchfile.starter import SeenColumn, starter

    target = Path(path)
    folder_of(path)
    if target.exists():
        raise JetRulerError(f"{path}: this is there already, and new never overwrites")
    kinds = dict(_kind(text) for text in channels)
    seen: list[SeenColumn] = []
    if log is not None:
        from ..core.survey.codes import code_bits
        from ..logs.look_at_log import look

        form = form_of(given, None)
        with progress_bar(log) as progress:
            found = look(log, form=form, progress=progress)
        for each in found.columns.values():
            v = each.survey
            column = int(each.column) if found.said else each.column
            if v.samples and each.bits is None:
                seen.append(SeenColumn(column, None, v.low_end, v.high_end, v.lsb))
            elif v.samples and each.bits is not None:
                low, high = int(v.low_end), int(v.high_end)
                step = 2 ** (each.bits - code_bits(v))
                seen.append(SeenColumn(column, each.bits, low, max(high, low + 1), step))
    text = starter(kinds, seen, title=target.stem.replace("-", " ").capitalize() or "My bench")
    parse_bench(text, path)
    try:
        with target.open("x", encoding="utf-8", newline="\n") as file:
            file.write(text)
    except OSError as error:
        raise JetRulerError(f"{path}: cannot be written: {error.strerror}") from None
    click.echo(f"{path}: written. Next: jetruler explain CHANNEL --at COUNT -b {path}", err=True)


def _kind(text: str) -> tuple[str, str]:
    from ..benchfile.load import CHANNEL_NAME
    from ..benchfile.starter import KINDS

    name, equals, kind = text.partition("=")
    if not equals or not CHANNEL_NAME.fullmatch(name):
        raise JetRulerError(f"--channel: found {text!r}; NAME=KIND is right, as in bean=ntc")
    if kind not in KINDS:
        raise JetRulerError(f"--channel: found {kind!r} in {text!r}; {nearest(kind, KINDS)}")
    return name, kind
