"""Jet Ruler: raw converter counts into engineering values, with the work shown.

The public names, and nothing else. Each is loaded when it is first used, so that the command
line does not pay for what it does not need.
"""

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, Any

from .core.laws import CLASSES
from .core.provided import provide

__version__ = "0.1.0"

if TYPE_CHECKING:
    from .benchfile.load import BenchError as BenchError
    from .benchfile.load import load_bench as load_bench
    from .benchfile.marks_file import read_marks as read_marks
    from .benchfile.write_back import write_calibration as write_calibration
    from .benchfile.write_back import write_correction as write_correction
    from .core.calibrate.compare_series import compare as compare
    from .core.calibrate.comparison import Comparison as Comparison
    from .core.calibrate.fit_marks import fit as fit
    from .core.calibrate.in_channel import Calibration as Calibration
    from .core.calibrate.in_channel import calibrate as calibrate
    from .core.calibrate.marks import Marks as Marks
    from .core.calibrate.marks import MarksError as MarksError
    from .core.calibrate.result import Fit as Fit
    from .core.calibrate.series import PairsError as PairsError
    from .core.check.rules import check as check
    from .core.choose.amplifier import AmplifierChoice as AmplifierChoice
    from .core.choose.amplifier import choose_amplifier as choose_amplifier
    from .core.choose.averaging import AveragingChoice as AveragingChoice
    from .core.choose.averaging import choose_averaging as choose_averaging
    from .core.choose.preferred import preferred as preferred
    from .core.choose.reference import ReferenceChoice as ReferenceChoice
    from .core.choose.reference import choose_reference as choose_reference
    from .core.choose.resistor import ResistorChoice as ResistorChoice
    from .core.choose.resistor import choose_resistor as choose_resistor
    from .core.decide.conditions import Condition as Condition
    from .core.decide.decisions import Decided as Decided
    from .core.decide.decisions import Decisions as Decisions
    from .core.decide.drives import Drive as Drive
    from .core.decide.smoothing import Smoother as Smoother
    from .core.decide.smoothing import Smoothing as Smoothing
    from .core.decide.smoothing import block_averages as block_averages
    from .core.decide.smoothing import smooth as smooth
    from .core.decide.trips import Trip as Trip
    from .core.errors import JetRulerError as JetRulerError
    from .core.errors import ParameterError as ParameterError
    from .core.errors import QuantityError as QuantityError
    from .core.errors import UnitError as UnitError
    from .core.firmware.selection import Exported as Exported
    from .core.firmware.selection import ExportError as ExportError
    from .core.firmware.selection import export as export
    from .core.laws import *  # noqa: F403
    from .core.model.channel import Bench as Bench
    from .core.model.channel import Channel as Channel
    from .core.model.fit_covariance import FitCovariance as FitCovariance
    from .core.model.quantity import Toleranced as Toleranced
    from .core.model.quantity import quantity as quantity
    from .core.model.reading import Flag as Flag
    from .core.model.reading import Reading as Reading
    from .core.model.ruler import Ruler as Ruler
    from .core.model.stream import Stream as Stream
    from .core.model.trace import Trace as Trace
    from .core.survey.ends import Ends as Ends
    from .core.survey.ends import NothingMovedError as NothingMovedError
    from .core.survey.ends import find_ends as find_ends
    from .core.survey.finding import Finding as Finding
    from .core.survey.finding import Severity as Severity
    from .core.survey.how_many import HowMany as HowMany
    from .core.survey.how_many import how_many as how_many
    from .core.survey.survey import Survey as Survey
    from .core.survey.survey import survey as survey
    from .core.uncertainty.budget import Budget as Budget
    from .core.uncertainty.budget import budget as budget
    from .core.uncertainty.propagate import Propagated as Propagated
    from .core.uncertainty.propagate import propagate as propagate
    from .core.uncertainty.simulate import Simulation as Simulation
    from .core.uncertainty.simulate import simulate as simulate
    from .fleet.convert_logs import Fleet as Fleet
    from .fleet.convert_logs import convert_all as convert_all
    from .live.stream_samples import LiveSample as LiveSample
    from .live.stream_samples import stream as stream
    from .logs.check_log import check_log as check_log
    from .logs.convert_log import convert as convert
    from .logs.look_at_log import Look as Look
    from .logs.look_at_log import look as look
    from .logs.options import ConvertOptions as ConvertOptions
    from .logs.pairs import read_pairs as read_pairs
    from .logs.source import LogError as LogError
    from .logs.source import LogFormat as LogFormat

_ROOMS = {
    "benchfile.load": ("BenchError", "load_bench"),
    "core.model.channel": ("Bench", "Channel"),
    "core.decide.conditions": ("Condition",),
    "core.decide.decisions": ("Decided", "Decisions"),
    "core.decide.drives": ("Drive",),
    "core.decide.trips": ("Trip",),
    "core.model.stream": ("Stream",),
    "core.survey.how_many": ("HowMany", "how_many"),
    "core.survey.ends": ("Ends", "NothingMovedError", "find_ends"),
    "core.errors": ("JetRulerError", "ParameterError", "QuantityError", "UnitError"),
    "core.laws": ("Law", *CLASSES),
    "core.model.quantity": ("Toleranced", "quantity"),
    "core.model.reading": ("Flag", "Reading"),
    "core.model.ruler": ("Ruler",),
    "core.decide.smoothing": (*("Smoother", "Smoothing", "block_averages", "smooth"),),
    "core.survey.survey": ("Survey", "survey"),
    "core.model.trace": ("Trace",),
    "logs.convert_log": ("convert",),
    "logs.options": ("ConvertOptions",),
    "live.stream_samples": ("LiveSample", "stream"),
    "logs.look_at_log": ("Look", "look"),
    "logs.source": ("LogError", "LogFormat"),
    "benchfile.write_back": ("write_calibration", "write_correction"),
    "benchfile.marks_file": ("read_marks",),
    "core.calibrate.comparison": ("Comparison",),
    "core.calibrate.compare_series": ("compare",),
    "core.calibrate.series": ("PairsError",),
    "core.firmware.selection": ("ExportError", "Exported", "export"),
    "core.calibrate.fit_marks": ("fit",),
    "core.calibrate.in_channel": ("Calibration", "calibrate"),
    "core.calibrate.result": ("Fit",),
    "core.model.fit_covariance": ("FitCovariance",),
    "core.calibrate.marks": ("Marks", "MarksError"),
    "logs.pairs": ("read_pairs",),
    "core.uncertainty.budget": ("Budget", "budget"),
    "core.uncertainty.simulate": ("Simulation", "simulate"),
    "core.uncertainty.propagate": ("Propagated", "propagate"),
    "core.check.rules": ("check",),
    "logs.check_log": ("check_log",),
    "core.survey.finding": ("Finding", "Severity"),
    "core.choose.amplifier": ("AmplifierChoice", "choose_amplifier"),
    "core.choose.averaging": ("AveragingChoice", "choose_averaging"),
    "core.choose.reference": ("ReferenceChoice", "choose_reference"),
    "core.choose.resistor": ("ResistorChoice", "choose_resistor"),
    "core.choose.preferred": ("preferred",),
    "fleet.convert_logs": ("Fleet", "convert_all"),
}
_HOME = {name: room for room, names in _ROOMS.items() for name in names}

__all__ = [*_HOME]  # type checkers read the imports above instead


def __getattr__(name: str) -> Any:
    if name == "plots":
        return import_module(".plots", __name__)
    if name not in _HOME:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = getattr(import_module(f".{_HOME[name]}", __name__), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted([*__all__, "plots", "__version__"])


def _from(module: str, function: str) -> Callable[[], Callable[..., Any]]:
    return lambda: getattr(import_module(f".{module}", __name__), function)


# Core knows neither frames, nor HTML, nor pictures, nor languages.
provide("convert_frame", _from("frames.convert_frame", "convert_frame"))
provide("frame", _from("frames.results", "frame"))
provide("html", _from("notebook.show", "html"))
provide("plot", _from("plots.on_axes", "curve"))
provide("code", _from("targets.code", "code_of"))
provide("save_code", _from("targets.code", "save_code"))
