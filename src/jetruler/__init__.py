"""Jet Ruler: raw converter counts into engineering values, with the work shown.

    import jetruler as jr

    bean = jr.Adc(bits=12, vref=3.3) >> jr.Divider("10 kohm") >> jr.Beta("100 kohm", 3950)
    bean(1880)            # °C; lists, arrays, Series and DataFrames give the same type
    bean.trace(1880)      # the same, step by step
    bench = jr.load_bench("bench.toml")

Laws        Adc Counts Input Amplifier Attenuator Divider Shunt
            Beta SteinhartHart SteinhartHartExtended Platinum Thermocouple
            Bridge LoadCell Photoresistor Pulses
            Line Polynomial PowerLaw Table Formula To
            Magnitude Whole Steps PassThrough Clamp Limits Expect DeadBand Zones; Law is their base
Rulers      Ruler Channel DerivedChannel derived Bench Flag Toleranced quantity
Bench files load_bench parse_bench write_calibration write_parameters write_correction
Logs        look convert convert_all check_log ConvertOptions LogFormat
Live        stream Live
Smoothing   Smoothing Smoother smooth block_averages
Decisions   Condition Trip Drive WireLines DriveMode Decisions
Surveys     survey find_ends how_many check
Uncertainty budget value_table propagate simulate what_if Correlation
Calibration Marks read_marks fit FitCovariance calibrate adjust read_pairs compare spot_check
Parts       choose_resistor choose_reference choose_amplifier choose_averaging preferred
Firmware    export naive three_numbers
Reports     report
Pictures    plots: one function a picture
Results     results: the classes of what the functions return
Errors      JetRulerError; errors: its kinds

`help(jr.Divider)` tells the rest of a name, `help(jr.plots)` that of a module. All of it, with
guides, is in the documentation. Each name is loaded when it is first used.
"""

import warnings
from collections.abc import Callable
from importlib import import_module
from typing import Any

import lazy_loader

from .core import OUTER

__version__ = "0.3.0"
_load, __dir__, _public = lazy_loader.attach_stub(__name__, __file__)


def __getattr__(name: str) -> Any:
    """A public name, loaded when it is first used; one of the version before with a warning."""
    if name == "Stream":
        name = "LogFormat"
        warnings.warn(f"Stream is called {name} now", DeprecationWarning, stacklevel=2)
    return _load(name)


class _Names(list[str]):
    """What a star import takes. `help(jetruler)` asks for each name whether it is in here, and
    prints all that is: the docstring above is the help that one can read."""

    def __contains__(self, name: object) -> bool:
        return False


__all__ = _Names(_public)


def _outer(module: str, function: str) -> Callable[..., Any]:
    def call(*args: Any, **options: Any) -> Any:
        return getattr(import_module(f".{module}", __name__), function)(*args, **options)

    return call


OUTER.html = _outer("show.printed", "html")
OUTER.text = _outer("show.printed", "text")
OUTER.plot = _outer("plots", "curve")
OUTER.frame = _outer("logs.frames", "frame")
OUTER.load_bench = _outer("benchfile.load", "load_bench")
OUTER.arrow = _outer("samples.cells", "arrow_of")
OUTER.convert_frame = _outer("logs.frames", "convert_frame")
OUTER.wrong_argument = _outer("wrong_argument", "wrong_argument")
OUTER.code = _outer("targets", "code_of")
OUTER.function = _outer("targets", "function_of")
OUTER.save_code = _outer("targets", "save_code")
