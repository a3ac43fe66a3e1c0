"""A drive as a chain of laws, so that whatever explains and draws a channel explains and draws a
drive too: raw value, value, command."""

from __future__ import annotations

from ..error_types import JetRulerError
from ..laws.curve import Table
from ..laws.interval import Clamp, DeadBand
from ..laws.linear import Line
from ..laws.raw_edge import Input
from ..laws.shape import Whole
from ..ruler.reading import FLAG_NAMES, flag_names
from ..ruler.ruler import Law, Ruler
from ..ruler.units import shown
from .bench import Bench
from .channel import Channel
from .conditions import faults_of
from .decisions import looked_at
from .drives import Drive


def command_channel(bench: Bench, drive: Drive) -> Channel:
    """The chain from the raw values of a drive's channel to its command, slew and safe values
    apart; of a drive that follows a trip, from 0 or 1. Raises `JetRulerError` where the channel's
    zones give whole patterns."""
    source = bench.every_channel.get(drive.source)
    if source is not None and source.ruler.label(0.0) is not None:
        raise JetRulerError(
            f"drive {drive.name} follows the zones of {source.name}, which are not numbers"
        )
    chain = Ruler((Input("1", range=(0.0, 1.0)),)) if source is None else source.chain
    unit = drive.unit or "1"
    marks = tuple(sorted((float(x), float(y)) for x, y in drive.marks))
    commands = [y for _, y in marks]
    takes = chain.gives
    laws: list[Law]
    if len(marks) == 2:
        laws = [Line(marks=(marks[0], marks[1]), unit=unit, takes=takes)]
        laws.append(Clamp(min(commands), max(commands)))
    else:
        laws = [Table(marks, ends="hold", unit=unit, takes=takes)]
    if drive.dead_band > 0 and drive.off is not None:
        laws.append(DeadBand(drive.off - drive.dead_band, drive.off + drive.dead_band, drive.off))
    if drive.bounds != (min(commands), max(commands)):
        laws.append(Clamp(*drive.bounds))
    if drive.whole:
        laws.append(Whole())
    about = drive.about or f"what drive {drive.name} makes of {drive.source}"
    return Channel(
        drive.name,
        Ruler.of(chain, *laws),
        1 if source is None else source.column,
        about=about,
        decimals=0 if drive.whole and drive.decimals is None else drive.decimals,
        lists_edge=source is not None and source.lists_edge,
    )


def beside_commands(bench: Bench, drive: Drive) -> list[str]:
    """What else a drive does, a sentence each: range, safe value, slew, line."""
    unit = drive.unit or None
    low, high = drive.bounds
    # A rail that is an end of the travel is no fault, whatever the drive lists.
    masks = [faults_of(drive.safe_flags, bench[name]) for name in looked_at(drive, bench)]
    seen = {name for mask in masks for name in flag_names(mask)}
    flags = [name for name in drive.safe_flags if name in seen or name not in FLAG_NAMES.values()]
    when = f"while {drive.source} has no value or is flagged {', '.join(flags)}"
    when += "".join(f", or trip {trip} is on" for trip in drive.safe_when)
    lines = [
        f"range: commands from {shown(low, unit)} to {shown(high, unit)}",
        f"safe: {shown(drive.safe, unit)}, at once, {when}",
    ]
    if drive.slew is not None:
        lines.append(f"slew: no faster than {shown(drive.slew, unit)} a second")
    return [*lines, f"on the wire: {drive.wire.replace('{output}', drive.output)}"]
