from .core.calibrate.comparison import Comparison as Comparison
from .core.calibrate.in_channel import Calibration as Calibration
from .core.calibrate.result import Fit as Fit
from .core.choose.amplifier import AmplifierChoice as AmplifierChoice
from .core.choose.averaging import AveragingChoice as AveragingChoice
from .core.choose.reference import ReferenceChoice as ReferenceChoice
from .core.choose.resistor import ResistorChoice as ResistorChoice
from .core.decide.decisions import Decided as Decided
from .core.firmware.naive import Naive as Naive
from .core.firmware.selection import Exported as Exported
from .core.model.reading import Reading as Reading
from .core.model.trace import Trace as Trace
from .core.survey.ends import Ends as Ends
from .core.survey.finding import Finding as Finding
from .core.survey.finding import Severity as Severity
from .core.survey.how_many import HowMany as HowMany
from .core.survey.survey import Survey as Survey
from .core.uncertainty.budget import Budget as Budget
from .core.uncertainty.propagate import Propagated as Propagated
from .core.uncertainty.simulate import Simulation as Simulation
from .core.uncertainty.what_if import WhatIf as WhatIf
from .fleet.convert_logs import Fleet as Fleet
from .live.stream_samples import LiveSample as LiveSample
from .logs.look_at_log import Look as Look

__all__: list[str]
