"""The bundled demo: the roaster bench, made-up data, and the generators that made it."""

import tempfile
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
