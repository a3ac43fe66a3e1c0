"""`jetruler report`: a bench as one page to hand in, or as tables and sentences to paste."""

from __future__ import annotations

import click

from ..core.error_types import JetRulerError
from ..core.model.raw_text import raw_from
from .common import bench_option, channel_of, folder_of, load
from .log_options import Given, form_of, saying_log_options


@click.command()
@click.argument("channels", nargs=-1, metavar="[CHANNEL...]")
@click.option("-o", "--output", "out", default="report.html", show_default=True, metavar="FILE")
@click.option("--at", multiple=True, metavar="RAW", help="Worked solutions here (repeatable).")
@click.option("--log", metavar="LOG", help="With an overview of this log, its trips and findings.")
@click.option("--marks", "marks", multiple=True, metavar="C=FILE", help="Calibrate C by these.")
@click.option("--with", "changes", multiple=True, metavar="P=VALUE", help="Better parts.")
@click.option("--compare", "compared", multiple=True, metavar="A=B", help="In --log.")
@click.option("--to", "form", type=click.Choice(["html", "md", "tex"]), help="Else by FILE's name.")
@saying_log_options
@bench_option
def command(
    channels: tuple[str, ...],
    out: str,
    at: tuple[str, ...],
    log: str | None,
    marks: tuple[str, ...],
    changes: tuple[str, ...],
    compared: tuple[str, ...],
    form: str | None,
    given: Given,
    bench_path: str,
) -> None:
    """A report of the bench, or of some channels: circuits, rulers, worked solutions, curves,
    budgets, findings, parameters; with a log, marks or better parts if you have them.

    \b
    jetruler report --log roast.csv --marks bean=bath.csv
    jetruler report bean --at 1880 --at 400 --with "r0 = 100 kohm ± 1 %"
    jetruler report bean --to tex -o bean.tex
    """
    from ..benchfile.marks_file import read_marks
    from ..files import keep_apart
    from ..report.make_report import report
    from .explain import changes_of

    folder_of(out)
    inputs = {"the bench": bench_path} | ({} if log is None else {"the log": log})
    keep_apart({"-o": out}, inputs)
    bench = load(bench_path)
    chosen = [channel_of(bench, name) for name in channels] or list(bench.channels.values())
    points = [raw_from(chosen[0], text, "--at") for text in at]
    found = {}
    for text in marks:
        name, equals, path = text.partition("=")
        if not equals:
            raise JetRulerError(f"--marks {text}: bean=bath.csv is right")
        found[channel_of(bench, name).name] = read_marks(path)
    pairs = [text.partition("=") for text in compared]
    for text, (_, equals, _) in zip(compared, pairs, strict=True):
        if not equals:
            raise JetRulerError(f"--compare {text}: bean=bean2 is right")
    made = report(
        bench,
        out,
        channels=channels,
        at=points,
        log=log,
        marks=found,
        changes=changes_of(changes),
        compared=[(first, second) for first, _, second in pairs],
        log_format=form_of(given, bench),
        form=form,  # type: ignore[arg-type]
    )
    for written in made:
        click.echo(written)
