"""Compiles exported headers, all in one go, and gives what their programs print."""

from __future__ import annotations

import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

import pytest

GCC = shutil.which("gcc")
FLAGS = (
    "-std=c99 -Wall -Wextra -Wlogical-op -Wconversion -Wsign-conversion -Werror -pedantic "
    "-fsanitize=undefined -fno-sanitize-recover"
)

needs_compiler = [
    pytest.mark.skipif(GCC is None, reason="no C compiler: apt-get install gcc"),
    pytest.mark.xdist_group("compiled"),
]


class Printing(NamedTuple):
    """A header that was exported, and a function body that calls it and prints."""

    header: str
    body: str


def printed_by(programs: Mapping[str, Printing], folder: Path) -> dict[str, list[str]]:
    """The lines that each program prints; all are compiled at once."""
    calls = ""
    for name, program in programs.items():
        (folder / f"{name}.h").write_text(program.header)
        (folder / f"{name}.c").write_text(
            f'#include "{name}.h"\n#include <stdio.h>\n#include <stdlib.h>\n'
            f"void run_{name}(void);\nvoid run_{name}(void)\n{{\n{program.body}\n}}\n"
        )
        calls += f"void run_{name}(void);\n"
    calls += "int main(void)\n{\n"
    for name in programs:
        calls += f'    run_{name}();\n    puts("= {name}");\n'
    (folder / "main.c").write_text(f"#include <stdio.h>\n{calls}    return 0;\n}}\n")
    sources = [f"{name}.c" for name in (*programs, "main")]
    command = [str(GCC), *FLAGS.split(), *sources, "-o", "main", "-lm"]
    built = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    assert not built.returncode, built.stderr[:3000]
    said = subprocess.run([folder / "main"], capture_output=True, text=True, check=True).stdout
    found: dict[str, list[str]] = {}
    for name in programs:
        mine, said = said.split(f"= {name}\n", 1)
        found[name] = mine.splitlines()
    return found
