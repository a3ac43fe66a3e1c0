"""Every public name, and what it is."""

from __future__ import annotations

from types import ModuleType
from typing import Any

import jetruler
from jetruler import errors, results

MODULES: tuple[ModuleType, ...] = (jetruler, results, errors)
PUBLIC: dict[str, Any] = {
    name: value
    for module in MODULES
    for name in module.__all__
    if not isinstance(value := getattr(module, name), ModuleType)
}
