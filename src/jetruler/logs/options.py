"""What may be asked of a conversion, whatever is converted: said and checked here, once."""

from __future__ import annotations

import math
from dataclasses import dataclass

from ..core.model.log_format import LogFormat
from ..samples.source import KINDS, LogError

#: MB that the batches under way may take, beside the programme itself.
MEMORY_MB = 128


@dataclass(frozen=True)
class ResultOptions:
    """The columns of a converted log or frame.

    Parameters
    ----------
    only : names of the channels to convert, or one name; all of them if empty.
    keep_raw : whether the raw columns stay beside the values.
    uncertainty : whether each channel with numbers has a column `<channel>_<unit>_u` behind it:
        the expanded uncertainty of every row at 95 %, in the channel's unit.
    """

    only: tuple[str, ...] = ()
    keep_raw: bool = False
    uncertainty: bool = False

    def __post_init__(self) -> None:
        names = (self.only,) if isinstance(self.only, str) else self.only
        object.__setattr__(self, "only", tuple(names))


@dataclass(frozen=True)
class ConvertOptions(ResultOptions):
    """How a log is converted: the keywords of `convert` and `convert_all`.

    Parameters
    ----------
    only, keep_raw, uncertainty : the columns of the result; see above.
    form : how the log is written; found out from the log if None.
    out_kind : "csv", "jsonl" or "parquet"; None goes by the result's name, and on standard
        output by the log.
    threads : how many read, convert and write at once; one a core if None.
    memory : MB that the batches under way may take. The result is the same whatever the threads
        and the memory are.

    Raises
    ------
    LogError : for a format that is none, and memory that is not above 0.

    Examples
    --------
    >>> import jetruler as jr
    >>> jr.ConvertOptions(only=["bean"]).only
    ('bean',)
    """

    form: LogFormat | None = None
    out_kind: str | None = None
    threads: int | None = None
    memory: float = MEMORY_MB

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.out_kind not in (None, *KINDS):
            raise LogError(f"format: found {self.out_kind!r}; one of {', '.join(KINDS)} is right")
        if not 0 < self.memory < math.inf:
            raise LogError(f"memory: found {self.memory:g} MB; more than 0 is right")


@dataclass(frozen=True)
class FrameOptions(ResultOptions):
    """How a frame is converted: the keywords of `Bench.convert`.

    Parameters
    ----------
    only, keep_raw, uncertainty : the columns of the result; see above.
    decide : whether a column of truths for each trip and a column of commands for each drive
        stand before `flags`; the frame then needs a column (or an index) of time.
    """

    decide: bool = False
