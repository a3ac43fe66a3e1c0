"""The smoothers of a log's channels, each settled when the first batch shows the time between
two samples."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.channel import Channel
from ..core.errors import ParameterError
from ..core.signal import Smoother
from .reader import Batch, LogReader
from .source import LogError
from .times import usual_interval


class Smoothers:
    """One smoother a channel that asks for one. Raises `LogError` where a smoothing over a time
    meets a log without a time column."""

    def __init__(self, reader: LogReader, channels: Sequence[Channel]) -> None:
        self._reader, self._channels = reader, channels
        self._made: dict[int, Smoother] = {}
        self._interval: float | None = None
        self.notes: dict[str, str] = {}
        """What each does, by channel, with its lag."""

    def of(self, i: int, batch: Batch) -> Smoother | None:
        """The smoother of a channel, if it has one."""
        channel = self._channels[i]
        if channel.smooth is None:
            return None
        if i not in self._made:
            if self._interval is None:
                used = {self._reader.position(c.column) for c in self._channels}
                self._interval = usual_interval(self._reader, batch, used)
            try:
                settled = channel.smooth.settled(self._interval)
            except ParameterError as error:
                raise LogError(f"{channel.name}.smooth.{error}") from None
            self._made[i] = Smoother(settled)
            self.notes[channel.name] = settled.described(self._interval)
        return self._made[i]
