from .benchfile.load import BenchError as BenchError
from .core.calibrate.comparison import PairsError as PairsError
from .core.calibrate.marks import MarksError as MarksError
from .core.error_types import JetRulerError as JetRulerError
from .core.error_types import KindError as KindError
from .core.error_types import LogError as LogError
from .core.error_types import PackageError as PackageError
from .core.error_types import ParameterError as ParameterError
from .core.error_types import QuantityError as QuantityError
from .core.error_types import UnitError as UnitError
from .core.firmware.exported import ExportError as ExportError
from .core.survey.ends import NothingMovedError as NothingMovedError

__all__: list[str]
