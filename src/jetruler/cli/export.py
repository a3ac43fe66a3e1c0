"""`jetruler export`: a conversion as C, Python or structured text, proven over every count."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple, cast

import click

from ..core.bench.bench import Bench
from ..core.bench.channel import Channel
from ..core.bench.derived import DerivedChannel, in_order
from ..core.error_types import JetRulerError, UnitError
from ..core.ruler.units import factor_and_offset, number, symbol
from ..files import reject_overlapping_paths
from .options import any_channel, bench_option, channel_of, folder_of, load, standard
from .streams import document, show_json

if TYPE_CHECKING:
    from ..core.firmware.count_programs import Threshold
    from ..core.firmware.exported import Exported
    from ..core.firmware.program import Machine
    from ..targets.target import Target


@click.command()
@click.argument("channels", nargs=-1, metavar="[CHANNEL…]")
@click.option("--to", "language", metavar="LANGUAGE",
              help="c, python, st (structured text), or numbers: y = x * a / b + c.")  # fmt: skip
@click.option("--arith", type=click.Choice(["float", "int64", "int32", "int16"]),
              help="Widest arithmetic; default int32, or int64 above 16 bits.")  # fmt: skip
@click.option("--scale", type=int, metavar="N", help="Output steps per unit: 10 gives tenths.")
@click.option("--within", metavar="ERROR", help="Largest error allowed; default one output step.")
@click.option("--all", "whole", is_flag=True, help="Export every channel of the bench.")
@click.option("--inside-limits", is_flag=True, help="Clamp the value to the channel's limits.")
@click.option(
    "--interval", type=float, metavar="SECONDS", help="Time between samples, for smoothing."
)
@click.option("--word", type=int, metavar="BITS", help="Bits of a, b, c and y; default 16.")
@click.option("--product", type=int, metavar="BITS", help="Bits of x * a; default twice --word.")
@click.option(
    "--cut", is_flag=True, help="The controller's division truncates instead of rounding."
)
@click.option("--numbers", metavar="A,B,C", help="Check these three numbers.")
@click.option("--arguments", metavar="NAME[=LOW..HIGH],…",
              help="Make parameters arguments: lo,hi are the ends of a line.")  # fmt: skip
@click.option(
    "--struct", "as_struct", is_flag=True, help="Add a form that takes the arguments as a struct."
)
@click.option("--window", type=click.IntRange(2, 255), metavar="N",
              help="Samples that a trip on a change stores; default 64.")  # fmt: skip
@click.option(
    "--threshold",
    multiple=True,
    metavar="C=VALUE[/RELEASE]",
    help="Add a threshold in counts (repeatable).",
)
@click.option("--text", "text_width", type=click.IntRange(2, 40), metavar="WIDTH",
              help="Add functions that format a value for a display.")  # fmt: skip
@click.option("--selftest", is_flag=True, help="Add a self-test over the whole range.")
@click.option(
    "-o",
    "--output",
    "out",
    default="-",
    metavar="FILE",
    callback=standard,
    help="The output file; - is stdout.",
)
@click.option("--json", "as_json", is_flag=True, help="Print the proof as JSON; needs -o.")
@bench_option
def export_command(channels: tuple[str, ...], out: str, bench_path: str, **options: Any) -> None:
    """Write the conversion of CHANNELs for firmware, with the proof in its comments.

    With --all, smoothing, trips and drives are exported too. The chosen form, its cost and its
    proof over every count go to stderr.

    \b
    jetruler export bean --to c --arith int32 --scale 10 --within 0.1 -o bean.h
    jetruler export --all --to python --interval 0.2 -o roaster.py
    jetruler export damper --to numbers --word 16 --product 32
    """
    from ..files import write_file

    scaling = {name: options.pop(name) for name in ("word", "product", "cut", "numbers")}
    if options["language"] == "numbers":
        write_numbers(channels, out, bench_path, options, **scaling)
        return
    if any(scaling.values()):
        raise JetRulerError("--word, --product, --cut, --numbers: expected --to numbers too")
    asked = ExportArguments(**options)
    asked.check(out)
    reject_overlapping_paths({"-o": out}, {"the bench": bench_path})
    bench = load(bench_path)
    if asked.whole == bool(channels):
        raise JetRulerError("expected one or more channels, or --all")
    named = [any_channel(bench, name) for name in dict.fromkeys(channels or bench)]
    computed = [one for one in named if isinstance(one, DerivedChannel)]
    chosen = [one for one in in_order(named) if not isinstance(one, DerivedChannel)]
    made = _made(bench, chosen, asked, computed)
    if out == "-":
        document(made.code)
    else:
        write_file(Path(out), made.code.encode())
    if asked.as_json:
        proofs = [e.to_dict() for e in made.exported]
        show_json(proofs)
    else:
        _report(made)


def write_numbers(
    channels: tuple[str, ...], out: str, bench_path: str, options: dict[str, Any],
    *, word: int | None, product: int | None, cut: bool, numbers: str | None,
) -> None:  # fmt: skip
    """`--to numbers`: the three numbers of each channel, or what three given ones do."""
    from ..core.firmware.three_numbers import three_numbers
    from ..files import write_file

    others = [name for name, value in options.items() if value and name not in OF_NUMBERS]
    if others:
        raise JetRulerError(f"--to numbers: expected no --{others[0].replace('_', '-')}, found it")
    reject_overlapping_paths({"-o": out}, {"the bench": bench_path})
    bench = load(bench_path)
    if options["whole"] == bool(channels):
        raise JetRulerError("expected one or more channels, or --all")
    given = None if numbers is None else _three(numbers)
    found = [
        three_numbers(
            channel_of(bench, name), scale=options["scale"], bits=word or 16,
            product_bits=product, rounding="toward zero" if cut else "nearest", numbers=given,
        )
        for name in dict.fromkeys(channels or bench.channels)
    ]  # fmt: skip
    if options["as_json"]:
        show_json([one.to_dict() for one in found])
    text = "\n".join("\n".join(map(str, one.content)) for one in found) + "\n"
    if out != "-":
        folder_of(out)
        write_file(Path(out), text.encode())
    elif not options["as_json"]:
        document(text)


#: Options that go with `--to numbers`.
OF_NUMBERS = frozenset(("language", "scale", "whole", "as_json"))


def _three(text: str) -> tuple[float, float, float]:
    parts = text.split(",")
    try:
        a, b, c = (float(part) for part in parts)
    except ValueError:
        expected = "three numbers, as in 79,293,-53"
        raise JetRulerError(f"--numbers: expected {expected}, found {text!r}") from None
    return a, b, c


@dataclass(frozen=True)
class ExportArguments:
    """What the options say."""

    language: str | None
    arith: str | None
    scale: int | None
    within: str | None
    whole: bool
    inside_limits: bool
    arguments: str | None
    as_struct: bool
    interval: float | None
    window: int | None
    threshold: tuple[str, ...]
    text_width: int | None
    selftest: bool
    as_json: bool

    @property
    def target(self) -> Target:
        """The language. Raises `JetRulerError`."""
        from ..targets import TARGETS, target_named

        if self.language is None:
            raise JetRulerError(f"--to: expected a language: {', '.join(TARGETS)}")
        return target_named(self.language)

    def check(self, out: str) -> None:
        """Refuse what cannot be, before any work is done."""
        if self.text_width is not None and (not self.target.writes_text or self.arith == "float"):
            raise JetRulerError("--text: expected whole numbers in C or Python")
        if self.interval is not None and not 0 < self.interval < math.inf:
            raise JetRulerError(f"--interval: expected seconds above 0, found {self.interval}")
        if self.as_json and out == "-":
            raise JetRulerError(
                "--json: expected -o FILE too, found none: proof and code cannot share stdout"
            )
        if self.arguments is not None and self.whole:
            raise JetRulerError("--arguments: expected one channel, without --all")
        if self.arguments is not None and self.threshold:
            raise JetRulerError("--arguments: expected no --threshold, which is fixed in counts")
        if self.window is not None and not self.whole:
            raise JetRulerError("--window: expected --all, which exports trips")
        if self.as_struct and self.arguments is None:
            raise JetRulerError("--struct: expected --arguments too")
        _ = self.target
        if out != "-":
            folder_of(out)


class Made(NamedTuple):
    """The code, and what there is to say about it."""

    code: str
    exported: list[Exported]
    notes: tuple[str, ...]
    thresholds: list[Threshold]
    others: tuple[str, ...]
    """The names of the trips and drives that came along."""
    machines: tuple[Machine, ...]


def _made(
    bench: Bench, chosen: list[Channel], asked: ExportArguments, computed: list[DerivedChannel]
) -> Made:
    from .. import __version__
    from ..core.firmware.bench_machines import Machines, holding_of, machines_of
    from ..core.firmware.channel_machines import WINDOW
    from ..core.firmware.count_programs import threshold
    from ..core.firmware.floats import DerivedFunction, derived_function
    from ..core.firmware.names import safe_name
    from ..targets.target import ExportOptions

    target, names = asked.target, {name: safe_name(name) for name in bench.channels}
    many = len(chosen) > 1
    exported = [_exported(c, names[c.name], target, asked, many) for c in chosen]
    for e in exported:
        if asked.text_width and e.wanted.scale not in (1, 10, 100, 1000, 10000, 100000, 1000000):
            expected = "a scale of 1, 10, 100 …, so that each digit has its place"
            found = f"{e.wanted.scale} for {e.channel.name}"
            raise JetRulerError(f"--text: expected {expected}, found {found}")
    thresholds = []
    for text in asked.threshold:
        channel, value, release = _threshold(bench, text)
        thresholds.append(threshold(bench, channel, names[channel.name], value, release))
    window = asked.window or WINDOW
    built = (
        machines_of(bench, exported, asked.interval, window)
        if asked.whole
        else holding_of(exported)
    )
    if built.machines and not target.writes_machines:
        what = f"{len(built.machines)} of smoothing, zones, trips and drives"
        note = f"{what}, for which {target.name} has no form"
        built = Machines((), (*built.notes, note))
    functions: list[DerivedFunction] = []
    for one in computed:
        function = derived_function(one, target.float_kind, target.functions, target.has_nan)
        if isinstance(function, str):
            raise JetRulerError(f"{one.name}: no function in {target.name}: {function}")
        functions.append(function)
    options = ExportOptions(
        bench,
        __version__,
        derived=functions,
        thresholds=thresholds,
        text_width=asked.text_width,
        selftest=asked.selftest,
        machines=built.machines,
        as_struct=asked.as_struct,
    )
    others = (*bench.trips, *bench.drives) if asked.whole else ()
    code = target.file(exported, options)
    return Made(
        code,
        exported,
        built.notes,
        thresholds=thresholds,
        others=others,
        machines=built.machines,
    )


def _exported(
    channel: Channel, name: str, target: Target, asked: ExportArguments, many: bool
) -> Exported:
    """One channel's conversion, in what the target can compute."""
    from ..core.firmware.selection import Arith, export

    return export(
        channel,
        name,
        arith=cast(Arith | None, asked.arith),
        scale=_scale(channel, asked.scale, many),
        within=_within(channel, asked.within),
        inside_limits=asked.inside_limits,
        kind=target.float_kind,
        functions=target.functions,
        arguments=None if asked.arguments is None else _arguments(asked.arguments),
    )


def _arguments(text: str) -> dict[str, tuple[float, float] | None]:
    """`lo,hi=2500..4095`: each with its range, None for the usual one."""
    found: dict[str, tuple[float, float] | None] = {}
    for part in text.split(","):
        name, equals, between = (piece.strip() for piece in part.partition("="))
        low, dots, high = between.partition("..")
        try:
            found[name] = (float(low), float(high)) if equals else None
        except ValueError:
            found.clear()
        if not name or bool(equals) != bool(dots) or not found:
            expected = "names, each with its range if it has one, as in lo,hi=2500..4095"
            raise JetRulerError(f"--arguments: expected {expected}, found {text!r}")
    return found


def _report(made: Made) -> None:
    """What was chosen, what it costs, what was renamed or left behind: to stderr."""
    from ..core.firmware.names import safe_name

    for e in made.exported:
        first, *rest = e.lines()
        click.echo(f"{e.channel.name}: {first}", err=True)
        for line in rest:
            click.echo(f"  {line}", err=True)
    for name in (*(e.channel.name for e in made.exported), *made.others):
        if safe_name(name) != name:
            click.echo(f"{name}: called {safe_name(name)} in the code", err=True)
    for machine in made.machines:
        click.echo(f"{machine.name}: {machine.cost}", err=True)
    for note in made.notes:
        click.echo(f"omitted: {note}", err=True)
    for t in made.thresholds:
        click.echo(f"{t.program.name}: {t.about}", err=True)


def _scale(channel: Channel, scale: int | None, many: bool) -> int | None:
    """The scale asked for; labelled zones among several channels keep theirs."""
    if many and channel.ruler.label(0.0) is not None:
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
    try:
        size, _ = factor_and_offset(found[2], channel.unit or "") if found else (math.nan, 0.0)
        value = float(found[1]) * size if found else math.nan
    except (ValueError, UnitError):
        value = math.nan
    if not math.isfinite(value):
        unit = symbol(channel.unit) or "no unit"
        expected = "a number, or a quantity in it"
        why = f"{channel.name} is in {unit}"
        raise JetRulerError(f"--within: expected {expected}, found {text!r}: {why}")
    return value


def _threshold(bench: Bench, text: str) -> tuple[Channel, float, float | None]:
    """`bean=225` or `bean=225/220`."""
    found = re.fullmatch(r"([^=]+)=(-?[\d.]+)(?:/(-?[\d.]+))?", text)
    if found is None or "." in (found[2], found[3]):
        raise JetRulerError(f"--threshold: expected bean=225 or bean=225/220, found {text!r}")
    try:
        release = None if found[3] is None else float(found[3])
        return channel_of(bench, found[1]), float(found[2]), release
    except ValueError:
        raise JetRulerError(f"--threshold {text}: {number(0)} is a number, this is none") from None
