"""Jet Ruler: raw converter counts into engineering values, with the work shown.

The public names, and nothing else. Each is loaded when it is first used, so that the command
line does not pay for what it does not need.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .bench.load import BenchError, load_bench
    from .core.channel import Bench, Channel
    from .core.ends import Ends, NothingMovedError, find_ends
    from .core.errors import JetRulerError, ParameterError, QuantityError, UnitError
    from .core.laws import (
        Adc,
        Amplifier,
        Attenuator,
        Beta,
        Clamp,
        Counts,
        DeadBand,
        Divider,
        Expect,
        Formula,
        Law,
        Limits,
        Line,
        Magnitude,
        PassThrough,
        Platinum,
        Polynomial,
        PowerLaw,
        Shunt,
        SteinhartHart,
        SteinhartHartExtended,
        Table,
        To,
        Whole,
        Zones,
    )
    from .core.quantity import Toleranced, quantity
    from .core.reading import Flag, Reading
    from .core.ruler import Ruler
    from .core.signal import HowMany, Smoother, Smoothing, block_averages, how_many, smooth
    from .core.survey import Survey, survey
    from .core.trace import Trace
    from .logs.convert import convert
    from .logs.look import Look, look
    from .logs.source import LogError, LogFormat

_ROOMS = {
    "bench.load": ("BenchError", "load_bench"),
    "core.channel": ("Bench", "Channel"),
    "core.ends": ("Ends", "NothingMovedError", "find_ends"),
    "core.errors": ("JetRulerError", "ParameterError", "QuantityError", "UnitError"),
    "core.laws": (
        "Adc",
        "Amplifier",
        "Attenuator",
        "Beta",
        "Clamp",
        "Counts",
        "DeadBand",
        "Divider",
        "Expect",
        "Formula",
        "Law",
        "Limits",
        "Line",
        "Magnitude",
        "PassThrough",
        "Platinum",
        "Polynomial",
        "PowerLaw",
        "Shunt",
        "SteinhartHart",
        "SteinhartHartExtended",
        "Table",
        "To",
        "Whole",
        "Zones",
    ),
    "core.quantity": ("Toleranced", "quantity"),
    "core.reading": ("Flag", "Reading"),
    "core.ruler": ("Ruler",),
    "core.signal": (*("HowMany", "Smoother", "Smoothing", "block_averages", "how_many", "smooth"),),
    "core.survey": ("Survey", "survey"),
    "core.trace": ("Trace",),
    "logs.convert": ("convert",),
    "logs.look": ("Look", "look"),
    "logs.source": ("LogError", "LogFormat"),
}
_HOME = {name: room for room, names in _ROOMS.items() for name in names}

__all__ = [  # noqa: RUF022 - in the order of the rooms
    "BenchError",
    "load_bench",
    "Bench",
    "Channel",
    "JetRulerError",
    "ParameterError",
    "QuantityError",
    "UnitError",
    "Adc",
    "Amplifier",
    "Attenuator",
    "Beta",
    "Clamp",
    "Counts",
    "DeadBand",
    "Divider",
    "Expect",
    "Formula",
    "Law",
    "Limits",
    "Line",
    "Magnitude",
    "PassThrough",
    "Platinum",
    "Polynomial",
    "PowerLaw",
    "Shunt",
    "SteinhartHart",
    "SteinhartHartExtended",
    "Table",
    "To",
    "Whole",
    "Zones",
    "Toleranced",
    "quantity",
    "Flag",
    "Reading",
    "Ruler",
    "Trace",
    "Survey",
    "survey",
    "Ends",
    "NothingMovedError",
    "find_ends",
    "Smoothing",
    "Smoother",
    "smooth",
    "block_averages",
    "HowMany",
    "how_many",
    "Look",
    "look",
    "convert",
    "LogError",
    "LogFormat",
]


def __getattr__(name: str) -> Any:
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(import_module(f".{_HOME[name]}", __name__), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*globals(), *_HOME])
