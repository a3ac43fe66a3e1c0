"""Writes docs/bench-keys.md from the models that read a bench file: `python docs/build_keys.py`."""

from __future__ import annotations

import ast
import inspect
import json
import sys
from collections.abc import Iterator
from dataclasses import MISSING, fields
from itertools import pairwise
from pathlib import Path
from typing import Any

import jetruler as jr
from jetruler.benchfile import tables
from jetruler.benchfile.models import model_of
from jetruler.core.bench.covariance import Correlation, FitCovariance
from jetruler.core.bench.drives import Drive
from jetruler.core.bench.modes import DriveMode, WireLines

sys.path.insert(0, str(Path(__file__).parent))
from docstrings import Docstring

PAGE = Path(__file__).with_name("bench-keys.md")

HEAD = """# Every key of the bench file

Made by `python docs/build_keys.py` from the code that reads the file. [The bench file](bench-file.md) explains it with examples.
An unknown key is an error, and the message suggests the nearest one.
"""

#: Each table as the page shows it: its heading, its model, the class that it makes.
SHOWN: list[tuple[str, Any, type[Any] | None]] = [
    ("The file", tables.FILE, None),
    ("`[converter]`, and `converter` of a channel", tables.CONVERTER, jr.Adc),
    ("`[log]`", tables.LOG, jr.LogFormat),
    ("`[wire]`", tables.WIRE, WireLines),
    ("`[channel.<name>]`", tables.CHANNEL, jr.Channel),
    ("`[channel.<name>]` with `from`", tables.DERIVED, jr.Channel),
    ("`input` of a channel", tables.INPUT, jr.Input),
    ("`smooth` of a channel", model_of(jr.Smoothing, "smooth"), jr.Smoothing),
    ("An entry of `correlated`", model_of(Correlation, "correlated"), Correlation),
    ("`calibration` as `fit --write` writes it", tables.COVARIANCE, FitCovariance),
    ("`[trip.<name>]`", tables.TRIP, jr.Trip),
    ("A condition of `any` or `all`", tables.CONDITION, jr.Condition),
    ("`[drive.<name>]`", tables.DRIVE, Drive),
    ("`[drive.<name>]` with `outputs`", tables.PATTERNS, None),
    ("An entry of `modes`", tables.MODE, DriveMode),
]

#: Keys that are no field of a class.
OWN = {
    "title": "The title of the bench.",
    "about": "A description for people.",
    "any": "Conditions, of which one must be true.",
    "all": "Conditions, which must all be true.",
    "also": "Other units of the same reading: a unit, or the unit of a joint.",
    "channel": "The channels, by name.",
    "converter": "The converter: here for all channels, in a channel what differs.",
    "drive": "The drives, by name.",
    "expected": "Rows that `check` tests.",
    "formula": "A law `formula` as a table, instead of the first law.",
    "from": "What it follows: channels for a channel; a channel or a trip for a drive.",
    "input": "An input that is not a converter.",
    "law": "Laws by name, for several channels.",
    "laws": "The laws, in order from the pin to the value.",
    "like": "Another channel: everything is taken from it except the keys given here.",
    "log": "How logs and streams are written.",
    "outputs": "A drive for each place of the zone's lists, by name.",
    "safe": "The command of each output when there is no valid value.",
    "stream": "The old name of `[log]`.",
    "trip": "The trips, by name.",
    "wire": "Lines for the controller of an actuator.",
}

#: What a docstring says of Python, as a bench file has it.
AS_TOML = {
    "(low, high)": "[low, high]",
    "(raw, value)": "[raw, value]",
    "(raw, value, tolerance)": "[raw, value, tolerance]",
    "(raw, command)": "[raw, command]",
    "(raw, command, tolerance)": "[raw, command, tolerance]",
    "(value, command)": "[value, command]",
    "`Toleranced` about 0": '"± 0.2 degC (k=2)"',
}


def meanings(kind: type[Any] | None) -> dict[str, str]:
    """What a class says of its fields: the text below each, else its parameters."""
    if kind is None:
        return {}
    rows = Docstring.of(kind).parameters
    return {name: text for names, _, text in rows for name in names.split(", ")} | dict(
        texts_below(kind)
    )


def texts_below(kind: type[Any]) -> Iterator[tuple[str, str]]:
    """The text below each field in the source."""
    tree = ast.parse(Path(inspect.getsourcefile(kind) or "").read_text("utf-8"))
    (own,) = (n for n in ast.walk(tree) if isinstance(n, ast.ClassDef) and n.name == kind.__name__)
    for field, below in pairwise(own.body):
        if (
            isinstance(field, ast.AnnAssign)
            and isinstance(field.target, ast.Name)
            and isinstance(below, ast.Expr)
            and isinstance(below.value, ast.Constant)
        ):
            yield field.target.id, " ".join(str(below.value.value).split())


def default(kind: type[Any] | None, key: str) -> str:
    """The default of a field, as TOML has it."""
    for field in fields(kind) if kind is not None else ():
        if field.name == key and field.default is not MISSING:
            value = field.default
            if value in (None, "", ()) or (isinstance(value, float) and value == float("inf")):
                return ""
            if isinstance(value, bool):
                return f"`{str(value).lower()}`"
            if isinstance(value, tuple):
                return f"`{json.dumps(value)}`"
            return f"`{value:g}`" if isinstance(value, float) else f"`{json.dumps(value)}`"
    return ""


def rows(shown: Any, kind: type[Any] | None) -> Iterator[tuple[str, str, str]]:
    """A row for each key that the model reads: key, default, meaning."""
    typed, said = shown.__origin__, meanings(kind)
    for key in typed.__annotations__:
        given = "required" if key in typed.__required_keys__ else default(kind, key)
        meaning = said.get(key) or OWN[key]
        for python, toml in AS_TOML.items():
            meaning = meaning.replace(python, toml)
        yield key, given, meaning.replace("|", "\\|")


def page() -> str:
    """The page."""
    parts = [HEAD]
    for title, shown, kind in SHOWN:
        parts.append(f"\n## {title}\n\n| key | default | meaning |\n|---|---|---|\n")
        parts += [f"| `{key}` | {given} | {text} |\n" for key, given, text in rows(shown, kind)]
        if shown is tables.CHANNEL:
            parts.append(f"| `like` |  | {OWN['like']} |\n")
    parts.append("\nThe keys of each law are on the page of the [laws](laws.md).\n")
    return "".join(parts)


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
