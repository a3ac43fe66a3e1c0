"""What the commands share: options, and finding a channel."""

from __future__ import annotations

import math
from pathlib import Path

import click

from ..core.error_types import JetRulerError
from ..core.model.channel import Bench, Channel
from ..core.model.quantity import quantity
from ..core.model.text import nearest
from ..core.model.unit_registry import factor
from ..core.model.units import symbol
from ..system.file_names import unfit

bench_option = click.option(
    "-b",
    "--bench",
    "bench_path",
    default="bench.toml",
    show_default=True,
    metavar="FILE",
    help="The bench file.",
)


def load(bench_path: str) -> Bench:
    """The bench, loaded when a command needs it."""
    from ..benchfile.load import load_bench

    return load_bench(bench_path)


def channel_of(bench: Bench, name: str) -> Channel:
    """A channel by its name; the message names the nearest."""
    if name not in bench.channels:
        raise JetRulerError(f"the bench has no channel {name!r}; {nearest(name, bench.channels)}")
    return bench[name]


def read_value(text: str, unit: str | None) -> float:
    """A number from the command line: plain in the unit wanted, or a quantity."""
    try:
        return float(text)
    except ValueError:
        return float(quantity(text, unit if unit and factor(unit) else None))


def raw_value(channel: Channel, text: str, option: str = "--at") -> float:
    """A raw value from the command line: plain, or a quantity where the input is no counts."""
    unit = channel.ruler.takes
    try:
        value = float(text) if unit in (None, "count") else read_value(text, unit)
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        right = "a count" if unit == "count" else f"a number, or a quantity in {symbol(unit)},"
        raise JetRulerError(f"{option}: found {text!r}; {right} is right")
    return value


def folder_of(path: str) -> None:
    """Refuse an output in a folder that does not exist, and a name that the system keeps, before
    any work is done."""
    if why := unfit(Path(path)):
        raise JetRulerError(f"{path}: {why}; give it another name")
    if not Path(path).parent.is_dir():
        raise JetRulerError(f"{path}: there is no folder {Path(path).parent}; make it first")


def finite_or_none(value: float) -> float | None:
    """For JSON, which has no NaN."""
    return value if math.isfinite(value) else None
