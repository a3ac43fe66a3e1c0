"""Putting what was fitted or compared into a bench file."""

from __future__ import annotations

import math
from dataclasses import fields, replace

from ..core.calibrate.in_channel import Calibration, joined
from ..core.laws.linear import Line
from ..core.laws.written import law_line
from ..core.model.channel import Channel
from ..core.model.fit_covariance import FitCovariance
from ..core.model.law import Law
from ..core.model.quantity import standard_of
from ..core.model.ruler import Ruler
from ..core.model.unit_registry import factor
from .edit import Change, write_law


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
    line = line_for(found.channel, found.fit.law, found.place)
    return write_law(
        path,
        found.channel,
        line,
        found.place,
        replaces=replaces,
        means=found.calibrated.chain,
        expected=expected,
        calibration=calibration_text(found.calibrated),
    )


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
    parts += [f"degrees = {known.degrees:g}"] * math.isfinite(known.degrees)
    return f"{{ {', '.join(parts)} }}"


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
    place, replaces, law = joined(channel, correction)
    laws = channel.chain.laws
    return write_law(
        path,
        channel,
        line_for(channel, law, place),
        place,
        replaces=replaces,
        means=Ruler((*laws[:place], law, *laws[place + replaces :])),
        expected=expected,
    )


def line_for(channel: Channel, law: Law, place: int) -> str:
    """The law as it is written. The first one says what it takes where that is not the count:
    without that it would be read as one that stands on counts."""
    before = channel.chain.units[place]
    stands = place == 1 and channel.chain.converter is not None and before != "count"
    has_unit = any(field.name == "takes" for field in fields(law))  # type: ignore[arg-type]
    if stands and has_unit and law.takes is None:
        law = replace(law, takes=before)  # type: ignore[type-var]
    return law_line(law)
