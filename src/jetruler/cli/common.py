"""What the commands share: options, and finding a channel."""

from __future__ import annotations

import math
import re
from pathlib import Path

import click

from ..core.error_types import JetRulerError
from ..core.model.channel import Bench, Channel
from ..core.model.quantity import quantity
from ..core.model.text import nearest
from ..core.model.unit_registry import factor
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


def is_port(name: str) -> bool:
    """Whether a name is that of a port, a URL or the stand-in board, and of no file."""
    if name == "demo" and not Path(name).exists():
        return True
    if "://" in name or re.fullmatch(r"(\\\\\.\\)?com\d+", name, re.IGNORECASE):
        return True
    return Path(name).is_char_device()


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
