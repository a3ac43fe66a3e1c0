# The public names, in groups; each group is a page of the reference.

# Laws
from .core.laws import Law as Law
from .core.laws import Adc as Adc
from .core.laws import Counts as Counts
from .core.laws import Input as Input
from .core.laws import Amplifier as Amplifier
from .core.laws import Attenuator as Attenuator
from .core.laws import Divider as Divider
from .core.laws import Shunt as Shunt
from .core.laws import Beta as Beta
from .core.laws import SteinhartHart as SteinhartHart
from .core.laws import SteinhartHartExtended as SteinhartHartExtended
from .core.laws import Platinum as Platinum
from .core.laws import Line as Line
from .core.laws import Polynomial as Polynomial
from .core.laws import PowerLaw as PowerLaw
from .core.laws import Table as Table
from .core.laws import Formula as Formula
from .core.laws import To as To
from .core.laws import Magnitude as Magnitude
from .core.laws import Whole as Whole
from .core.laws import PassThrough as PassThrough
from .core.laws import Clamp as Clamp
from .core.laws import Limits as Limits
from .core.laws import Expect as Expect
from .core.laws import DeadBand as DeadBand
from .core.laws import Zones as Zones

# Rulers and channels
from .core.model.ruler import Ruler as Ruler
from .core.model.channel import Channel as Channel
from .core.model.channel import Bench as Bench
from .core.model.reading import Flag as Flag
from .core.model.quantity import Toleranced as Toleranced
from .core.model.quantity import quantity as quantity

# Bench files
from .benchfile.load import load_bench as load_bench
from .benchfile.load import parse_bench as parse_bench
from .benchfile.write_back import write_calibration as write_calibration
from .benchfile.write_back import write_correction as write_correction

# Logs
from .logs.look_at_log import look as look
from .logs.convert_log import convert as convert
from .fleet.convert_logs import convert_all as convert_all
from .logs.check_log import check_log as check_log
from .logs.options import ConvertOptions as ConvertOptions
from .core.model.log_format import LogFormat as LogFormat

# Live
from .live.stream_samples import stream as stream
from .live.hands_on import Live as Live

# Smoothing
from .core.decide.smoothing import Smoothing as Smoothing
from .core.decide.smoothing import Smoother as Smoother
from .core.decide.smoothing import smooth as smooth
from .core.decide.smoothing import block_averages as block_averages

# Decisions
from .core.decide.conditions import Condition as Condition
from .core.decide.trips import Trip as Trip
from .core.decide.drives import Drive as Drive
from .core.decide.decisions import Decisions as Decisions

# Surveys
from .core.survey.survey import survey as survey
from .core.survey.ends import find_ends as find_ends
from .core.survey.how_many import how_many as how_many
from .core.check.rules import check as check

# Uncertainty
from .core.uncertainty.budget import budget as budget
from .core.uncertainty.propagate import propagate as propagate
from .core.uncertainty.simulate import simulate as simulate
from .core.uncertainty.what_if import what_if as what_if

# Calibration
from .core.calibrate.marks import Marks as Marks
from .benchfile.marks_file import read_marks as read_marks
from .core.calibrate.fit_marks import fit as fit
from .core.model.fit_covariance import FitCovariance as FitCovariance
from .core.calibrate.in_channel import calibrate as calibrate
from .logs.pairs import read_pairs as read_pairs
from .core.calibrate.compare_series import compare as compare

# Parts
from .core.choose.resistor import choose_resistor as choose_resistor
from .core.choose.reference import choose_reference as choose_reference
from .core.choose.amplifier import choose_amplifier as choose_amplifier
from .core.choose.averaging import choose_averaging as choose_averaging
from .core.choose.preferred import preferred as preferred

# Firmware
from .core.firmware.selection import export as export
from .core.firmware.naive import naive as naive

# Reports
from .report.make_report import report as report

# Errors, results and pictures have modules of their own.
from . import errors as errors
from . import plots as plots
from . import results as results
from .core.error_types import JetRulerError as JetRulerError

__version__: str
__all__: list[str]
