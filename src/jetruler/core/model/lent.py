"""What the package lends core: functions that know more than core may know, loaded when needed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_LOADERS: dict[str, Callable[[], Callable[..., Any]]] = {}


def lend(name: str, loader: Callable[[], Callable[..., Any]]) -> None:
    """Put a function at core's disposal; loader: loads it."""
    _LOADERS[name] = loader


def lent(name: str) -> Callable[..., Any]:
    """A function that was lent."""
    return _LOADERS[name]()
