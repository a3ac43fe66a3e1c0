"""Functions of outer rooms that core calls by name, such as the conversion of a frame.

`Bench.convert` stands in core, which may not import a frame library; the package provides it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

_LOADERS: dict[str, Callable[[], Callable[..., Any]]] = {}


def provide(name: str, loader: Callable[[], Callable[..., Any]]) -> None:
    """Register a function for core. `loader` imports and returns it when it is first needed."""
    _LOADERS[name] = loader


def provided(name: str) -> Callable[..., Any]:
    """Return the function that was registered under this name."""
    return _LOADERS[name]()
