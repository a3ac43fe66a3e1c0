"""`jetruler export`: a conversion as C, Python or structured text, proven over every count."""

from __future__ import annotations

import json
import math
import re
from pathlib import Path
from typing import TYPE_CHECKING, cast

import click

from ..core.errors import JetRulerError
from ..core.model.channel import Bench, Channel
from ..core.model.quantity import quantity
from ..core.model.text import number
from ..core.model.units import factor, symbol
from .common import bench_option, channel_of, folder_of, load

if TYPE_CHECKING:
    from ..core.firmware.flagged import Threshold
    from ..core.firmware.selection import Exported
    from ..targets.target import Target


@click.command()
@click.argument("channels", nargs=-1, metavar="[CHANNEL…]")
@click.option("--to", "language", metavar="LANGUAGE", help="c, python or st (structured text).")
@click.option("--arith", type=click.Choice(["float", "int32", "int16"]), default="int32",
              show_default=True, help="The widest arithmetic.")  # fmt: skip
@click.option("--scale", type=int, metavar="N", help="Output steps for one unit: 10 is tenths.")
@click.option("--within", metavar="ERROR", help="The largest error; one output step if left out.")
@click.option("--all", "whole", is_flag=True, help="Every channel of the bench.")
@click.option("--inside-limits", is_flag=True, help="Hold the value at the channel's limits.")
@click.option("--interval", type=float, metavar="SECONDS", help="Between samples, for smoothing.")
@click.option("--threshold", multiple=True, metavar="C=VALUE[/RELEASE]", help="In counts.")
@click.option("--text", "text_width", type=click.IntRange(2, 40), metavar="WIDTH",
              help="Add functions that write a value for a display.")  # fmt: skip
@click.option("--selftest", is_flag=True, help="Add test vectors over the whole range.")
@click.option("-o", "--output", "out", default="-", metavar="FILE", help="- is stdout.")
@click.option("--json", "as_json", is_flag=True, help="The proof as JSON on stdout; needs -o.")
@bench_option
def command(
    channels: tuple[str, ...],
    language: str | None,
    arith: str,
    scale: int | None,
    within: str | None,
    whole: bool,
    inside_limits: bool,
    interval: float | None,
    threshold: tuple[str, ...],
    text_width: int | None,
    selftest: bool,
    out: str,
    as_json: bool,
    bench_path: str,
) -> None:
    """Write the conversion of CHANNELs for firmware, with the proof in its comments.

    With --all, smoothing, trips and drives come along. What was chosen, what it costs, and what
    running every count has shown goes to stderr.

    \b
    jetruler export bean --to c --arith int32 --scale 10 --within 0.1 -o bean.h
    jetruler export --all --to python --interval 0.2 -o roaster.py
    """
    from .. import __version__
    from ..core.firmware.flagged import threshold as threshold_of
    from ..core.firmware.names import safe_names
    from ..logs.output import write_file
    from ..targets.machines import machines
    from ..targets.register import TARGETS, target_named
    from ..targets.target import Wish

    if language is None:
        raise JetRulerError(f"--to: say the language: {', '.join(TARGETS)}")
    target = target_named(language)
    if text_width is not None and (not target.writes_text or arith == "float"):
        raise JetRulerError("--text: whole numbers in C or Python can be written for a display")
    if interval is not None and not 0 < interval < math.inf:
        raise JetRulerError(f"--interval {interval}: seconds above 0 are right")
    if as_json and out == "-":
        raise JetRulerError("--json: the proof and the code cannot fraction stdout; add -o FILE")
    if out != "-":
        folder_of(out)
    bench = load(bench_path)
    if whole == bool(channels):
        raise JetRulerError("name one or more channels, or --all")
    chosen = [channel_of(bench, name) for name in dict.fromkeys(channels or bench.channels)]
    names = safe_names(bench.channels)
    scales = {c.name: _scale(c, scale, len(chosen)) for c in chosen}
    exported = [
        _exported(
            c,
            names[c.name],
            target=target,
            arith=arith,
            scale=scales[c.name],
            within=within,
            inside_limits=inside_limits,
        )
        for c in chosen
    ]
    thresholds = []
    for text in threshold:
        channel, value, release = _threshold(bench, text)
        thresholds.append(threshold_of(bench, channel, names[channel.name], value, release))
    made, notes = machines(bench, exported, target, interval) if whole else ([], ())
    wish = Wish(
        bench,
        __version__,
        thresholds=thresholds,
        text_width=text_width,
        selftest=selftest,
        machines=made,
    )
    code = target.file(exported, wish)
    if out == "-":
        click.echo(code, nl=False)
    else:
        write_file(Path(out), code.encode())
    if as_json:
        click.echo(json.dumps([e.as_dict() for e in exported], indent=2, ensure_ascii=False))
        return
    _report(exported, notes, thresholds)


def _exported(
    channel: Channel,
    name: str,
    target: Target,
    arith: str,
    scale: int | None,
    within: str | None,
    inside_limits: bool,
) -> Exported:
    """One channel's conversion, in what the target can compute."""
    from ..core.firmware.selection import Arith, export

    kind, functions = target.float_kind, target.functions
    error = _within(channel, within)
    return export(
        channel,
        name,
        arith=cast(Arith, arith),
        scale=scale,
        within=error,
        inside_limits=inside_limits,
        kind=kind,
        functions=functions,
    )


def _report(exported: list[Exported], notes: tuple[str, ...], thresholds: list[Threshold]) -> None:
    """What was chosen, what it costs, what was left behind: to stderr."""
    for e in exported:
        first, *rest = e.lines()
        click.echo(f"{e.channel.name}: {first}", err=True)
        for line in rest:
            click.echo(f"  {line}", err=True)
    for note in notes:
        click.echo(f"not taken along: {note}", err=True)
    for t in thresholds:
        click.echo(f"{t.program.name}: {t.about}", err=True)


def _scale(channel: Channel, scale: int | None, many: int) -> int | None:
    """The scale asked for; labelled zones among several channels keep theirs."""
    if many > 1 and channel.ruler.label(0.0) is not None:
        return None
    return scale


def _within(channel: Channel, text: str | None) -> float | None:
    """The bound in the channel's unit: a plain number, or a quantity."""
    if text is None or channel.ruler.label(0.0) is not None:
        return None
    try:
        return float(text)
    except ValueError:
        pass
    found = re.fullmatch(r"\s*([-+.\deE]+)\s*(\S+)\s*", text)
    unit = symbol(channel.unit) or "no unit"
    wrong = JetRulerError(
        f"--within {text}: {channel.name} is in {unit}; a number, or a quantity in it, is right"
    )
    if found is None:
        raise wrong
    own, given = factor(channel.unit or ""), factor(found[2])
    degrees = {"degC", "K"}
    if given is None or own is None:
        raise wrong
    if given[0] != own[0] and not {given[0], own[0]} <= degrees:
        raise wrong
    value = float(quantity(found[1], None)) * given[1] / own[1]
    if not math.isfinite(value):
        raise wrong
    return value


def _threshold(bench: Bench, text: str) -> tuple[Channel, float, float | None]:
    """`bean=225` or `bean=225/220`."""
    found = re.fullmatch(r"([^=]+)=(-?[\d.]+)(?:/(-?[\d.]+))?", text)
    if found is None or "." in (found[2], found[3]):
        raise JetRulerError(f"--threshold {text}: bean=225 or bean=225/220 is right")
    try:
        release = None if found[3] is None else float(found[3])
        return channel_of(bench, found[1]), float(found[2]), release
    except ValueError:
        raise JetRulerError(f"--threshold {text}: {number(0)} is a number, this is none") from None
