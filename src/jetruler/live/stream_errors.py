"""What can go wrong with a stream."""

from __future__ import annotations

from ..core.error_types import JetRulerError


class StreamError(JetRulerError):
    """A stream that cannot be used; the sentence says why and what to do."""


class SourceGone(Exception):  # noqa: N818 - an event more than an error
    """A port that was there is gone, or is not there yet; it may return."""


class SourceEnded(Exception):  # noqa: N818 - an event, not an error
    """A stream that is over."""
