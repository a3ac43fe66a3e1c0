# The public names, in groups; each group is a page of the reference.

# Laws
from .core.ruler.ruler import Law as Law
from .core.laws.raw_edge import Adc as Adc
from .core.laws.raw_edge import Counts as Counts
from .core.laws.raw_edge import Input as Input
from .core.laws.circuit import Amplifier as Amplifier
from .core.laws.circuit import Attenuator as Attenuator
from .core.laws.circuit import Divider as Divider
from .core.laws.circuit import Shunt as Shunt
from .core.laws.thermistor import Beta as Beta
from .core.laws.thermistor import SteinhartHart as SteinhartHart
from .core.laws.steinhart_hart_extended import SteinhartHartExtended as SteinhartHartExtended
from .core.laws.temperature import Platinum as Platinum
from .core.laws.thermocouple import Thermocouple as Thermocouple
from .core.laws.sensors import Bridge as Bridge
from .core.laws.sensors import LoadCell as LoadCell
from .core.laws.sensors import Photoresistor as Photoresistor
from .core.laws.sensors import Pulses as Pulses
from .core.laws.linear import Line as Line
from .core.laws.curve import Polynomial as Polynomial
from .core.laws.formula import PowerLaw as PowerLaw
from .core.laws.curve import Table as Table
from .core.laws.formula import Formula as Formula
from .core.ruler.ruler import To as To
from .core.laws.shape import Magnitude as Magnitude
from .core.laws.shape import Whole as Whole
from .core.laws.shape import Steps as Steps
from .core.laws.shape import PassThrough as PassThrough
from .core.laws.interval import Clamp as Clamp
from .core.laws.interval import Limits as Limits
from .core.laws.interval import Expect as Expect
from .core.laws.interval import DeadBand as DeadBand
from .core.laws.shape import Zones as Zones

# Rulers and channels
from .core.ruler.ruler import Ruler as Ruler
from .core.bench.channel import Channel as Channel
from .core.bench.derived import DerivedChannel as DerivedChannel
from .core.bench.derived import derived as derived
from .core.bench.bench import Bench as Bench
from .core.ruler.reading import Flag as Flag
from .core.ruler.quantity import Toleranced as Toleranced
from .core.ruler.quantity import quantity as quantity

# Bench files
from .benchfile.load import load_bench as load_bench
from .benchfile.load import parse_bench as parse_bench
from .benchfile.edit import write_calibration as write_calibration
from .benchfile.edit import write_parameters as write_parameters
from .benchfile.edit import write_correction as write_correction

# Logs
from .logs.look_at import look as look
from .logs.convert_log import convert as convert
from .logs.convert_all import convert_all as convert_all
from .logs.check_log import check_log as check_log
from .logs.conversion import ConvertOptions as ConvertOptions
from .core.bench.bench import LogFormat as LogFormat

# Live
from .live.api import stream as stream
from .live.api import Live as Live

# Smoothing
from .core.bench.smoothing import Smoothing as Smoothing
from .core.bench.smoothing import Smoother as Smoother
from .core.bench.smoothing import smooth as smooth
from .core.bench.smoothing import block_averages as block_averages

# Decisions
from .core.bench.conditions import Condition as Condition
from .core.bench.trips import Trip as Trip
from .core.bench.drives import Drive as Drive
from .core.bench.modes import WireLines as WireLines
from .core.bench.modes import DriveMode as DriveMode
from .core.bench.decisions import Decisions as Decisions

# Surveys
from .core.survey.surveyor import survey as survey
from .core.survey.ends import find_ends as find_ends
from .core.survey.how_many import how_many as how_many
from .core.check.check import check as check

# Uncertainty
from .core.uncertainty.budget import budget as budget
from .core.uncertainty.value_table import value_table as value_table
from .core.uncertainty.draws import propagate as propagate
from .core.uncertainty.simulate import simulate as simulate
from .core.uncertainty.what_if import what_if as what_if
from .core.bench.covariance import Correlation as Correlation

# Calibration
from .core.calibrate.marks import Marks as Marks
from .benchfile.marks_file import read_marks as read_marks
from .core.calibrate.fit import fit as fit
from .core.bench.covariance import FitCovariance as FitCovariance
from .core.calibrate.in_channel import calibrate as calibrate
from .core.calibrate.adjust import adjust as adjust
from .logs.pairs import read_pairs as read_pairs
from .core.calibrate.compare import compare as compare
from .core.calibrate.spot_check import spot_check as spot_check

# Parts
from .core.choose.resistor import choose_resistor as choose_resistor
from .core.choose.signal_range import choose_reference as choose_reference
from .core.choose.signal_range import choose_amplifier as choose_amplifier
from .core.choose.averaging import choose_averaging as choose_averaging
from .core.laws.preferred import preferred as preferred

# Firmware
from .core.firmware.selection import export as export
from .core.firmware.naive import naive as naive
from .core.firmware.three_numbers import three_numbers as three_numbers

# Reports
from .show.report import report as report

# Errors, results and pictures have modules of their own.
from . import errors as errors
from . import plots as plots
from . import results as results
from .core.error_types import JetRulerError as JetRulerError

__version__: str
__all__: list[str]
