"""The channels of a log at work, each settled when the first rows show the time between two
samples."""

from __future__ import annotations

from collections.abc import Sequence

from ..core.decide.channel_reader import ChannelReader
from ..core.error_types import ParameterError
from ..core.model.channel import Channel
from .batches import SampleBatch
from .source import LogError
from .times import HEAD_ROWS


def remembers(channel: Channel) -> bool:
    """Whether what a sample reads depends on those before it."""
    return channel.smooth is not None or not ChannelReader(channel).by_count


class ChannelReaders:
    """Makes a reader a channel. Raises `LogError` where a smoothing over a time meets a log
    without a time column."""

    def __init__(self, channels: Sequence[Channel]) -> None:
        self._channels = channels
        self._made: dict[int, ChannelReader] = {}
        self._interval: float | None = None
        self.notes: dict[str, str] = {}
        """What each smoothing does, by channel, with its lag."""

    def of(self, i: int, batch: SampleBatch) -> ChannelReader:
        """The reader of a channel; batch: the first rows of the log, if it is new."""
        if i not in self._made:
            self._made[i] = self._reader(self._channels[i], batch)
        return self._made[i]

    def _reader(self, channel: Channel, batch: SampleBatch) -> ChannelReader:
        if channel.smooth is None:
            return ChannelReader(channel)
        if self._interval is None:
            self._interval = batch.head(HEAD_ROWS).interval
        try:
            settled = channel.smooth.settled(self._interval)
        except ParameterError as error:
            raise LogError(f"{channel.name}.smooth.{error}") from None
        self.notes[channel.name] = settled.summary(self._interval)
        return ChannelReader(channel, settled)
