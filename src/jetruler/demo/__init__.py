"""The bundled demo: the roaster bench, made-up data, and the generators that made it."""

from __future__ import annotations

import gzip
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from importlib.resources import files
from os import PathLike
from pathlib import Path

#: Files of the demo, copied as they are, and what each of them is.
SHOWS = {
    "bench.toml": "the roaster's eight channels",
    "roast.csv": "a made-up 14-minute roast",
    "damper-marks.csv": "the damper knob against the scale on the flap",
    "bath.csv": "the bean thermistor in a stirred bath, at five temperatures",
    "rest.csv": "both bean thermistors at rest, side by side, with a thermometer",
    "store.toml": "the green-bean store: grams, centimetres, volts and m/s² beside counts",
    "store.csv": "five minutes of the store",
}
FILES = tuple(SHOWS)


def read(name: str) -> bytes:
    """The bytes of a bundled file."""
    return (files(__name__) / name).read_bytes()


def unpack(folder: str | PathLike[str] | None = None) -> Path:
    """Write the demo's files into a folder, a new temporary one unless it is given; return it."""
    home = Path(tempfile.mkdtemp(prefix="jetruler-") if folder is None else folder)
    for name in FILES:
        (home / name).write_bytes(read(name))
    return home


def broken_week(home: Path) -> None:
    """Write a week of roasts, the last of which broke off."""
    logs = home / "logs" / "week1"
    logs.mkdir(parents=True)
    roast = (home / "roast.csv").read_bytes()
    (logs / "monday.csv").write_bytes(roast)
    packed = gzip.compress(roast, mtime=0)
    (logs / "tuesday.csv.gz").write_bytes(packed)
    (logs / "wednesday.csv.gz").write_bytes(packed[: len(packed) // 2])


@dataclass(frozen=True)
class TourStep:
    """One command of the tour. before: makes what it needs; into: the file that takes its output;
    then: a text file of its making to be shown."""

    command: str
    shows: str = ""
    before: Callable[[Path], None] | None = None
    into: str | None = None
    then: str | None = None


@dataclass(frozen=True)
class Chapter:
    """Steps of the tour that belong together, in the order of the work."""

    name: str
    about: str
    steps: tuple[TourStep, ...]


CHAPTERS = (
    Chapter(
        "look",
        "raw values: ends, noise, rails, the part in use",
        (
            TourStep("look roast.csv -b bench.toml"),
            TourStep(
                "draw histogram roast.csv damper rail",
                "how often each count came up, with the ends and the rails",
            ),
            TourStep(
                "draw log roast.csv bean damper rail",
                "values in blue, counts in grey, flagged stretches in red",
            ),
        ),
    ),
    Chapter(
        "convert",
        "a log into engineering values, with flags",
        (
            TourStep(
                "convert roast.csv -o out.csv",
                "the roast in engineering values; the loose connector of the bean sensor shows as\n"
                "bean:high_rail in its column `flags`, the sagging supply as rail:below",
            ),
        ),
    ),
    Chapter(
        "explain",
        "one reading worked out, and the rulers behind it",
        (
            TourStep("explain bean --at 1880"),
            TourStep("explain bean --for 225"),
            TourStep("explain bean --every '40 degC'"),
            TourStep(
                "draw ruler bean --at 1880",
                "even counts on one edge, °C on the other, uneven because the law bends",
            ),
            TourStep(
                "draw ruler damper --at 1880",
                "0 and 100 % are at the real ends of the knob's travel",
            ),
            TourStep(
                "draw curve bean draught", "value against counts, and what one count is worth"
            ),
            TourStep(
                "draw stages draught --at 1880",
                "the chain as stacked number lines, one reading traced through",
            ),
        ),
    ),
    Chapter(
        "compare",
        "two sensors side by side",
        (
            TourStep("compare bean bean2 --log rest.csv"),
            TourStep(
                "draw compare bean bean2 --log rest.csv",
                "differences against the mean, with bias and limits",
            ),
        ),
    ),
    Chapter(
        "fit",
        "a law from marks against a reference",
        (
            TourStep("fit bean --marks bath.csv"),
            TourStep("compare bean --mark 1880=121 --within 0.5"),
            TourStep('fit rail --mark "3400=11.9 V" --free upper'),
            TourStep(
                "draw fit bean --marks bath.csv",
                "the marks on the fitted curve, and the remaining errors",
            ),
        ),
    ),
    Chapter(
        "budget",
        "the uncertainty of a value, and its sources",
        (
            TourStep("explain bean --at 400 --budget"),
            TourStep(
                "draw budget bean --at 3912 --at 400",
                "which part contributes most to the uncertainty, at low and at high temperature",
            ),
            TourStep(
                "convert roast.csv --uncertainty -o trusted.csv",
                "the roast with ± at 95 % behind every value",
            ),
        ),
    ),
    Chapter(
        "choose",
        "the resistor that uses most of the range",
        (
            TourStep("choose resistor bean --from 20 --to 240"),
            TourStep(
                "draw choose bean --from 20 --to 240",
                "counts and steps over the range, for the best and the present part",
            ),
        ),
    ),
    Chapter(
        "trips",
        "mistakes in the bench file, and what happens when",
        (
            TourStep("check"),
            TourStep(
                "convert roast.csv -o decided.csv --events events.csv",
                "the trips of the bench: beans dropped in, the loose connector, too hot",
                then="events.csv",
            ),
        ),
    ),
    Chapter(
        "inputs",
        "boards that give grams, centimetres and volts",
        (
            TourStep("look store.csv -b store.toml"),
            TourStep(
                "convert store.csv -b store.toml -o store-values.csv",
                "grams, centimetres, volts and m/s² through the same laws as counts",
            ),
            TourStep("explain silo --at '20.6 cm' --budget -b store.toml"),
            TourStep(
                "draw log store.csv -b store.toml",
                "raw values in grey, each on an axis in its own unit; the lost echo in red",
            ),
        ),
    ),
    Chapter(
        "live",
        "a board that streams, with its outputs",
        (
            TourStep(
                'live --source demo --duration "0.5 s"',
                "half a second of the stand-in board, with trips and drives",
                into="live.csv",
            ),
        ),
    ),
    Chapter(
        "archive",
        "many logs at once, one of them broken",
        (
            TourStep(
                "convert logs -o archive --to parquet --jobs 1",
                "a week of roasts as Parquet, with units in the columns' metadata;\n"
                "Wednesday's log broke off, which stops none of the others",
                before=broken_week,
            ),
        ),
    ),
    Chapter(
        "export",
        "the conversion as firmware, proven over every count",
        (
            TourStep(
                "export --all --to c --interval 0.2 --selftest -o roaster.h",
                "the whole bench as firmware, proven over every count; above each function,\n"
                "what was chosen and its worst error",
            ),
            TourStep(
                "explain damper --at 1880 --arith int16",
                "the worked line typed into a small board unchanged, and in other orders",
            ),
            TourStep(
                "export damper --to numbers",
                "the three whole numbers for a controller that knows only y = x · a / b + c",
            ),
            TourStep("export damper tray --to python --interval 0.2 -o damper.py"),
            TourStep(
                "export draught --to st -o draught.st", "the same in Python and in structured text"
            ),
        ),
    ),
    Chapter(
        "report",
        "the circuit, and a page to hand in",
        (
            TourStep(
                "draw circuit bean --at 1880",
                "what the bench file says is wired to what, with voltages and currents",
            ),
            TourStep(
                'report bean --at 1880 --marks bean=bath.csv --with "r0 = 100 kohm ± 1 %"',
                "one page to hand in: circuit, worked solutions, budget, calibration,\n"
                "and what a better part would bring",
            ),
        ),
    ),
)
#: Every step, in order.
STEPS = tuple(step for chapter in CHAPTERS for step in chapter.steps)
