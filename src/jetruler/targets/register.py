"""The targets there are, by name: a new one is a file and a row here."""

from __future__ import annotations

from ..core.firmware.selection import ExportError
from .c import C99
from .python import PythonModule
from .st import StructuredText
from .target import Target

TARGETS: dict[str, Target] = {
    target.name: target for target in (C99(), PythonModule(), StructuredText())
}


def target_named(name: str) -> Target:
    """Return the target of this name. Raise `ExportError` for any other, with all that exist."""
    if name not in TARGETS:
        raise ExportError(f"target: found {name!r}; one of {', '.join(TARGETS)} is right")
    return TARGETS[name]
