"""Changing a bench file in place: comments, order and everything else stay as they are."""

from __future__ import annotations

import math
import os
import re
from codecs import BOM_UTF8
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import fields, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import tomlkit
from tomlkit.items import Array

from ..core.bench.channel import Channel
from ..core.bench.covariance import FitCovariance
from ..core.calibrate.adjust import Adjustment
from ..core.calibrate.in_channel import Calibration, joined
from ..core.error_types import JetRulerError
from ..core.laws import law_line, number_text
from ..core.laws.linear import Line
from ..core.result import refuses
from ..core.ruler.base_law import hint_unit, parameters
from ..core.ruler.quantity import Toleranced, standard_of
from ..core.ruler.ruler import Law, Ruler, written
from ..core.ruler.units import TEMPERATURES, factor
from ..files import atomic_replace, editing, note_read, temp_path
from .load import BenchError, parse_bench


def read_text(path: str) -> str:
    """Return a bench file as text, with plain line ends. Raises `BenchError`."""
    try:
        note_read(Path(path))
        return Path(path).read_bytes().decode("utf-8-sig").replace("\r\n", "\n")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not text"
        raise BenchError(path, [f"cannot be read: {reason}"]) from None


def replace_file(path: str, text: str) -> None:
    """Write beside the file, with its line ends and its mark of UTF-8, then take its place. Raises
    `BenchError`."""
    target = Path(path).resolve()
    part = temp_path(target)
    try:
        if not os.access(target, os.W_OK):
            raise PermissionError(13, "it is read-only")
        was = target.read_bytes()
        ends = text.replace("\n", "\r\n") if b"\r\n" in was else text
        part.write_bytes(BOM_UTF8 * was.startswith(BOM_UTF8) + ends.encode())
        atomic_replace(part, target)
    except OSError as error:
        raise BenchError(path, [f"cannot be written: {error.strerror}"]) from None
    finally:
        part.unlink(missing_ok=True)


#: What may be between two items of a list: blanks, commas and comments.
_BETWEEN = re.compile(r"(?:[\s,]|#[^\n]*\n)*")


class Change(NamedTuple):
    """The lines of a bench file that a change took away, and those that it put there."""

    before: str
    after: str


@contextmanager
def _alone(path: str) -> Iterator[None]:
    """From reading a bench file to putting another in its place, nobody else changes it. Raises
    `BenchError`."""
    try:
        with editing(path):
            yield
    except BenchError:
        raise
    except JetRulerError as error:
        raise BenchError(path, [str(error).removeprefix(f"{path}: ")]) from None


def write_marks(path: str, channel: str, marks: tuple[tuple[float, float], ...]) -> Change:
    """Put marks into the first line law of a channel; the file is replaced whole or not at all.

    Returns the line as it was and as it is. Raises `BenchError` for a channel without such a
    law, or a file that cannot be written.
    """
    with _alone(path):
        text = read_text(path)
        document = tomlkit.parse(text)
        tables: Any = document.get("channel", {})
        laws: Any = tables.get(channel, {}).get("laws", [])
        law = next((law for law in laws if law.get("law") == "line" and "marks" in law), None)
        if law is None:
            raise BenchError(
                path,
                [f"channel.{channel}: expected a line with marks to put these into, found none"],
            )
        before = f"marks = {law['marks'].as_string()}"
        pairs = ", ".join(f"[{number_text(raw)}, {number_text(true)}]" for raw, true in marks)
        law["marks"] = tomlkit.parse(f"marks = [{pairs}]")["marks"]
        changed = tomlkit.dumps(document)
        parse_bench(changed, path, Path(path).parent)  # its errors come first
        was = parse_bench(text, path, Path(path).parent)[channel].chain
        index = next(i for i, one in enumerate(was.laws) if one.marks)
        with_marks = replace(was.laws[index], marks=marks)  # type: ignore[type-var]
        means = Ruler((*was.laws[:index], with_marks, *was.laws[index + 1 :]))
        _replace_checked(path, changed, channel, means, f"marks = [{pairs}]")
        return Change(before, f"marks = [{pairs}]")


def write_law(
    path: str,
    channel: Channel,
    line: str,
    index: int,
    *,
    replaces: bool,
    means: Ruler,
    expected: str | None = None,
    calibration: str | None = None,
) -> Change:
    """Put a law into a channel's list of laws; the old one stays as a comment.

    Parameters
    ----------
    line : the law as a TOML table.
    place : where it goes among the channel's laws, from 0.
    replaces : whether it takes the place of the law there; else it is before that.
    means : the channel's laws with it; a file that reads otherwise is not written.
    expected : the file's text as the law was fitted to it; a file that has changed since is left
        alone.
    calibration : what is then at the channel's key of that name, for budgets; nothing if it is
        empty, what is there now if it is None.

    Raises
    ------
    BenchError : if the file cannot be changed; it is replaced whole or not at all.
    """
    with _alone(path):
        text = read_text(path)
        if expected is not None and text != expected:
            raise BenchError(path, [_CHANGED])
        document = tomlkit.parse(text)
        tables: Any = document["channel"]
        table = tables[channel.name]
        if "laws" not in table and "like" in table:
            own = f"calibrate {table['like']}, or write the laws of {channel.name} out"
            raise BenchError(path, [f"channel.{channel.name} has the laws of another; {own}"])
        if "laws" not in table:
            table["column"].trivia.trail = "\nlaws = []\n"
            document = tomlkit.parse(tomlkit.dumps(document))
            tables = document["channel"]
            table = tables[channel.name]
        if not isinstance(table["laws"], Array):
            name = f"channel.{channel.name}"
            expected = f"is not written as a list `laws = [ … ]` below [{name}]; add this yourself"
            raise BenchError(path, [f"{name}.laws {expected}: {line}"])
        listed, items = table["laws"].as_string(), _items(table["laws"])
        laws = written(channel.chain.laws)  # the file does not list the common converter
        index = len(written(channel.chain.laws[:index])) - (len(laws) - len(items))
        if "\n" in listed and items:
            changed, change = _in_lines(listed, items, line, index, replaces)
        else:
            changed, change = _in_one_line(listed, items, line, index, replaces)
        table["laws"] = tomlkit.parse(f"laws = {changed}")["laws"]
        if calibration is not None:
            change = _set_calibration(table, calibration, change)
        _replace_checked(path, tomlkit.dumps(document), channel.name, means, line)
        return change


def _replace_checked(path: str, text: str, channel: str, means: Ruler, lines: str) -> None:
    """Load what would be written and hold it against what it means, at every count (or at some
    thousand raw values of an input); only what is equal takes the file's place."""
    read = parse_bench(text, path, Path(path).parent)[channel].chain
    edge = means.edge
    bounded = edge is not None and edge.is_bounded
    raw = edge.samples(2**16) if edge is not None and bounded else np.linspace(-1e4, 1e4, 2**12 + 1)
    if not np.array_equal(read(raw), means(raw), equal_nan=True):
        expected = f"add this yourself: {lines}"
        raise BenchError(path, [f"channel.{channel}.laws would give other values; {expected}"])
    replace_file(path, text)


def _items(laws: Array) -> list[tuple[int, int]]:
    """Where each item of a list is in its text."""
    text, spans, at = laws.as_string(), [], 1
    for item in laws:
        match = _BETWEEN.match(text, at)
        start = match.end() if match else at
        at = start + len(item.as_string())
        spans.append((start, at))
    return spans


def _in_lines(
    text: str, items: list[tuple[int, int]], line: str, index: int, replaces: bool
) -> tuple[str, Change]:
    """A list with a law a line: the new law gets a line of its own."""
    start, end = items[index if replaces else max(0, index - 1)]
    head = text.rfind("\n", 0, start) + 1
    indent = text[head:start] if not text[head:start].strip() else "  "
    old = text[start:end]
    if replaces:
        own_line = not text[head:start].strip()
        was = "".join(f"# was: {part.strip()}\n{indent}" for part in old.splitlines())
        new = (was if own_line else f"\n{indent}{was}") + line
        return text[:start] + new + text[end:], Change(old, line)
    if index == 0:
        return text[:start] + f"{line},\n{indent}" + text[start:], Change("", line)
    comma = re.match(r"\s*,[ \t]*(#[^\n]*)?", text[end:])
    if comma is None:
        return text[:end] + f",\n{indent}{line}" + text[end:], Change("", line)
    after = end + comma.end()
    return text[:after] + f"\n{indent}{line}," + text[after:], Change("", line)


def _in_one_line(
    text: str, items: list[tuple[int, int]], line: str, index: int, replaces: bool
) -> tuple[str, Change]:
    """A list in one line gets a line for each law, under the list as it was."""
    laws = [text[a:b] for a, b in items]
    laws[index : index + replaces] = [line]
    was = f"  # was: {text}\n" if items else ""
    new = "[\n" + was + "".join(f"  {law},\n" for law in laws) + "]"
    return new, Change(f"laws = {text}", f"laws = {new}")


def _set_calibration(table: Any, calibration: str, change: Change) -> Change:
    """Put the key into a channel's table, or take it away; the change with it."""
    before, after = change
    was = table.get("calibration")
    if was is not None:
        before += f"\ncalibration = {was.as_string()}"
    if calibration:
        after += f"\ncalibration = {calibration}"
    if not calibration:
        table.pop("calibration", None)
    elif was is not None:
        table["calibration"] = tomlkit.parse(f"x = {calibration}")["x"]
    else:  # right behind the laws: the end of a table may belong to the comment on the next one
        table["laws"].trivia.trail = f"\ncalibration = {calibration}\n"
    return Change(before, after)


@refuses
def write_calibration(path: str, found: Calibration, expected: str | None = None) -> Change:
    """Put a fitted law into its place in a bench file; the old law stays as a comment.

    How well the fit knows the law goes to the channel's key `calibration`, where budgets find it.

    Parameters
    ----------
    path : str
        The bench file.
    found : Calibration
        What `calibrate` returns.
    expected : str, optional
        The file's text as it was read; a file that has changed since is left alone.

    Returns
    -------
    Change
        The lines taken out and put in.

    Raises
    ------
    BenchError
        The file is replaced whole or not at all.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> found = jr.calibrate(bench["bean"], jr.read_marks("bath.csv"))
    >>> _ = jr.write_calibration("bench.toml", found)
    >>> jr.load_bench("bench.toml")["bean"].calibration is not None
    True
    """
    replaces = found.replaced is not None
    line = line_for(found.channel, found.fit.law, found.index)
    return write_law(
        path,
        found.channel,
        line,
        found.index,
        replaces=replaces,
        means=found.calibrated.chain,
        expected=expected,
        calibration=calibration_text(found.calibrated),
    )


@refuses
def write_parameters(path: str, found: Adjustment, expected: str | None = None) -> Change:
    """Put adjusted parameters where they stand in a bench file: in the channel's laws, or in the
    converter that it shares with others.

    Parameters
    ----------
    path : str
        The bench file.
    found : Adjustment
        What `adjust` returns.
    expected : str, optional
        The file's text as it was read; a file that has changed since is left alone.

    Returns
    -------
    Change
        The lines taken out and put in.

    Raises
    ------
    BenchError
        The file is replaced whole or not at all.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> found = jr.adjust(bench["rail"], jr.Marks.of([(3400, 11.9)]), ["upper"])
    >>> _ = jr.write_parameters("bench.toml", found)
    >>> round(jr.load_bench("bench.toml")["rail"].ruler(3400), 2)
    11.9
    """
    with _alone(path):
        text = read_text(path)
        if expected is not None and text != expected:
            raise BenchError(path, [_CHANGED])
        document = tomlkit.parse(text)
        name, laws = found.channel.name, found.adjusted.chain.laws
        table: Any = document["channel"][name]
        listed = len(written(laws)) - len(table.get("laws", []))
        before, after = [], []
        for i, (was, law) in enumerate(zip(found.channel.chain.laws, laws, strict=True)):
            own = len(written(laws[: i + 1])) - 1 - listed
            for field in fields(law):  # type: ignore[arg-type]
                if _same(getattr(was, field.name), getattr(law, field.name)):
                    continue
                home = table["laws"][own] if own >= 0 else _converter(document, table)
                before.append(f"{field.name} = {home[field.name].as_string()}")
                now = tomlkit.parse(f"x = {_parameter_text(law, field.name)}")["x"]
                home[field.name] = now
                after.append(f"{field.name} = {now.as_string()}")
        lines = "\n".join(after)
        _replace_checked(path, tomlkit.dumps(document), name, found.adjusted.chain, lines)
        return Change("\n".join(before), lines)


#: Why nothing is written to a file that somebody else has saved meanwhile.
_CHANGED = "it has changed since it was read; nothing was written, try again"


def _parameter_text(law: Law, name: str) -> str:
    """A parameter as TOML, with its unit where it has one of its own."""
    value, unit = getattr(law, name), hint_unit(parameters(type(law))[name])
    if not isinstance(value, int | float) or unit is None or unit.symbol in TEMPERATURES:
        line: Any = tomlkit.parse(f"x = {law_line(law)}")
        return str(line["x"][name].as_string())
    text = f"{number_text(value)} {unit.symbol}"
    if isinstance(value, Toleranced):
        text += f" ± {number_text(value.half_width)} {unit.symbol}"
        text += "" if value.k is None else f" (k={value.k:g})"
    return f'"{text}"'


def _converter(document: Any, table: Any) -> Any:
    """Where the converter of a channel is that its list of laws has not."""
    return table["converter"] if "converter" in table else document["converter"]


def _same(was: Any, now: Any) -> bool:
    """Whether two parameters are the same, with their tolerances."""
    return repr(was) == repr(now)


def calibration_text(channel: Channel) -> str:
    """What the key `calibration` says of a channel, as TOML; empty where it should not be there."""
    known, unit = channel.calibration, channel.unit if factor(channel.unit or "") else None
    if known is None:
        return ""
    left = known.left if isinstance(known, FitCovariance) else standard_of(known)
    text = f'"± {left:.2g}{f" {unit}" if unit else ""} (k=1)"'
    if not isinstance(known, FitCovariance):
        return text
    names = ", ".join(f'"{name}"' for name in known.parameters)
    rows = ", ".join(f"[{', '.join(f'{v:.9g}' for v in row)}]" for row in known.covariance)
    parts = [f'law = "{known.law}"', f"parameters = [{names}]", f"covariance = [{rows}]"]
    parts += [f"which = {known.which}"] * (known.which > 1)
    parts += [f"left = {text}"] * bool(left)
    parts += [f"dof = {known.dof:g}"] * math.isfinite(known.dof)
    return f"{{ {', '.join(parts)} }}"


@refuses
def write_correction(
    path: str, channel: Channel, correction: Line, expected: str | None = None
) -> Change:
    """Put a correction on top of a channel, or join it with the one that is there. As above.

    Parameters
    ----------
    path : str
        The bench file.
    channel : Channel
        The channel as it was read from the file.
    correction : Line
        The line that `compare` calls for.
    expected : str, optional
        The file's text as it was read; a file that has changed since is left alone.

    Returns
    -------
    Change
        The lines taken out and put in.

    Examples
    --------
    >>> import jetruler as jr
    >>> bench = jr.load_bench("bench.toml")
    >>> _ = jr.write_correction("bench.toml", bench["rail"], jr.Line(gain=1.0, offset=-0.05))
    >>> jr.load_bench("bench.toml")["rail"].ruler(3400) < bench["rail"].ruler(3400)
    True
    """
    index, replaces, law = joined(channel, correction)
    laws = channel.chain.laws
    return write_law(
        path,
        channel,
        line_for(channel, law, index),
        index,
        replaces=replaces,
        means=Ruler((*laws[:index], law, *laws[index + replaces :])),
        expected=expected,
    )


def line_for(channel: Channel, law: Law, index: int) -> str:
    """The law as it is written. The first one says what it takes where that is not the count:
    without that it would be read as one that is on counts."""
    before = channel.chain.units[index]
    stands = index == 1 and channel.chain.converter is not None and before != "count"
    has_unit = any(field.name == "takes" for field in fields(law))  # type: ignore[arg-type]
    if stands and has_unit and law.takes is None:
        law = replace(law, takes=before)  # type: ignore[type-var]
    return law_line(law)
