"""A zone's on/off pattern, as one drive for each of its outputs."""

from __future__ import annotations

from collections.abc import Sequence

from ..error_types import ParameterError
from ..laws.zones import Zones
from ..model.channel import Channel
from .drives import Drive


def pattern_drives(
    name: str, channel: Channel, outputs: Sequence[str], safe: Sequence[float] | None = None
) -> dict[str, Drive]:
    """Return a drive for each output of a zone's pattern.

    Parameters
    ----------
    name : of all of them; each is called `<name>_<output>`.
    channel : whose last law is `zones` with lists of numbers, one number for each output.
    outputs : names on the wire, in the order of the lists.
    safe : command of each where nothing better is known; 0 if left out.

    Raises
    ------
    ParameterError
        For a channel without patterns, and for outputs or safe values of another number.
    """
    zones = channel.chain.laws[-1]
    patterns = zones.values if isinstance(zones, Zones) else ()
    if not patterns or not all(isinstance(pattern, tuple) for pattern in patterns):
        right = f"{channel.name} has no patterns: zones with lists as in [1, 0, 0] are right"
        raise ParameterError("outputs", tuple(outputs), right)
    width = len(patterns[0])  # type: ignore[arg-type]
    if len(outputs) != width or len(set(outputs)) < width:
        right = f"{width} different names are right, one for each place of the patterns"
        raise ParameterError("outputs", tuple(outputs), right)
    values = tuple(safe) if safe is not None else (0.0,) * width
    if len(values) != width:
        raise ParameterError("safe", values, f"{width} commands are right, one for each output")
    made = {}
    for place, output in enumerate(outputs):
        commands = [float(pattern[place]) for pattern in patterns]  # type: ignore[index]
        key = f"{name}_{output}".replace(".", "_").replace("-", "_")
        made[key] = Drive(
            key,
            channel.name,
            tuple((float(zone), command) for zone, command in enumerate(commands)),
            safe=values[place],
            range=(min(0.0, *commands, values[place]), max(1.0, *commands, values[place])),
            output=output,
            whole=all(command.is_integer() for command in (*commands, float(values[place]))),
        )
    return made
