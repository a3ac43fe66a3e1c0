"""What each command loads: a heavy package only where the job needs it."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from tests.helpers.sizes import few, thinned

#: Packages that take long to load, or much memory, or that not everybody has.
HEAVY = {
    *("dask", "hypothesis", "matplotlib", "pandas", "PIL", "pint", "polars", "pyarrow"),
    *("scipy.ndimage", "scipy.signal", "scipy.special", "scipy.stats", "serial", "textual"),
    "tomlkit",
}

#: What each command may load of these: SciPy's special functions where an interval is wanted.
LOADS: dict[str, set[str]] = {
    "--help": set(),
    "explain bean --at 1880": set(),
    "explain bean --at 1880 --budget": {"scipy.special"},
    "check": set(),
    "export bean --to c -o bean.h": set(),
    "choose averaging bean --at 220 --to 0.05": set(),
    "fit bean --marks bath.csv": {"scipy.special", "tomlkit"},
    "convert roast.csv -o out.csv": {"pyarrow"},
    "compare bean bean2 --log rest.csv": {"pyarrow", "scipy.special", "tomlkit"},
    "look roast.csv": {"pyarrow", "scipy.special"},
    "draw ruler bean -o ruler.svg": {"matplotlib", "PIL"},
}

CODE = """
import sys
from jetruler.cli import main
try:
    main(sys.argv[1:])
except SystemExit as stop:
    assert stop.code in (0, None), stop.code
sys.stderr.write("\\n" + " ".join(sys.modules))
"""


@few
@pytest.mark.parametrize("command", thinned(LOADS, 2))
def test_a_command_loads_only_what_its_job_needs(command: str, home: Path) -> None:
    words = [sys.executable, "-c", CODE, *command.split()]
    done = subprocess.run(words, cwd=home, capture_output=True, text=True, check=True)
    loaded = HEAVY & set(done.stderr.splitlines()[-1].split())
    assert loaded <= LOADS[command]
