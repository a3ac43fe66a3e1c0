"""Programs as text for a target: C, Python, IEC 61131-3 structured text.

In: an `Exported`, or several. Out: a file of code. Read `target.py` first, then the file named
after a language.
"""

from __future__ import annotations

from os import PathLike
from pathlib import Path

from ..core.bench.bench import Bench
from ..core.firmware.bench_machines import holding_of
from ..core.firmware.exported import Exported, ExportError
from ..files import atomic_replace, temp_path
from .c import C99
from .python import PythonModule
from .structured_text import StructuredText
from .target import ExportOptions, Target

TARGETS: dict[str, Target] = {
    target.name: target for target in (C99(), PythonModule(), StructuredText())
}


def target_named(name: str) -> Target:
    """Return the target of this name. Raise `ExportError` for any other, with all that exist."""
    if name not in TARGETS:
        raise ExportError(f"target: expected one of {', '.join(TARGETS)}, found {name!r}")
    return TARGETS[name]


#: The language that a file's name represents.
SUFFIXES = {".h": "c", ".c": "c", ".py": "python", ".st": "st"}


def code_of(
    exported: Exported, to: str, selftest: bool, title: str | None = None, struct: bool = False
) -> str:
    """Return the text. Raises `ExportError`."""
    from .. import __version__

    target = target_named(to)
    if exported.is_float and exported.float_kind is not target.float_kind:
        expected = f"export(…, kind=numpy.{target.float_kind.__name__}) is proven in its floats"
        raise ExportError(f"{to} computes in {target.float_kind.__name__}; use {expected}")
    bench = Bench(title or exported.channel.name, {exported.channel.name: exported.channel})
    machines = holding_of([exported]).machines if target.writes_machines else ()
    options = ExportOptions(
        bench,
        __version__,
        selftest=selftest,
        machines=machines,
        as_struct=struct and bool(exported.defaults),
    )
    return target.file([exported], options)


def function_of(exported: Exported, to: str) -> list[str]:
    """Return the lines of the function alone. Raises `ExportError`."""
    return target_named(to).function(exported.program)


def save_code(
    exported: Exported,
    path: str | PathLike[str],
    selftest: bool,
    title: str | None = None,
    struct: bool = False,
) -> None:
    """Write the text; the language follows from the name."""
    final = Path(path)
    if final.suffix not in SUFFIXES:
        expected = f"a name that ends in {', '.join(SUFFIXES)}"
        raise ExportError(f"path: expected {expected}, found {str(path)!r}")
    part = temp_path(final)
    try:
        part.write_text(code_of(exported, SUFFIXES[final.suffix], selftest, title, struct), "utf-8")
        atomic_replace(part, final)
    finally:
        part.unlink(missing_ok=True)
