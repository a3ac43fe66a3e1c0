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
    "fit bean --mark 1880=121.5 --mark 900=180": {"scipy.special", "tomlkit"},
    "fit bean --marks bath.csv": {"pyarrow", "scipy.special", "tomlkit"},
    "convert roast.csv -o out.csv": {"pyarrow"},
    "compare bean bean2 --log rest.csv": {"pyarrow", "scipy.special", "tomlkit"},
    "look roast.csv": {"pyarrow", "scipy.special"},
    "look other.csv": {"pyarrow", "scipy.special"},
    "convert other.csv --bench other.toml -o other.parquet": {"pyarrow"},
    "convert other.csv --bench other.toml -o other.jsonl": {"pyarrow"},
    "convert objects.jsonl --bench other.toml -o of.csv": {"pyarrow"},
    "convert objects.jsonl --bench other.toml -o of.jsonl": {"pyarrow"},
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


def other_logs(home: Path) -> None:
    """Logs unlike the demo's: dates, volts that do not repeat, torn rows, objects of two forms."""
    rows = [f"30.11.2026 10:00:{i % 60:02},{1.5 + i / 7919:.7f},{2000 + i % 9}" for i in range(300)]
    rows[100], rows[200] = "n/a,1.2345678,", "30.11"
    (home / "other.csv").write_text("\n".join(["time,volts,ch0", *rows, ""]))
    channel = '[converter]\nbits = 12\nvref = "3.3 V"\n[channel.a]\ncolumn = "ch0"\n'
    (home / "other.toml").write_text(channel)
    objects = ['{"ch0": 2000, "ok": true}', '{"ch0": null, "v": 1.5}', '{"ch0": "x", "v": 2}', "-"]
    (home / "objects.jsonl").write_text("\n".join(objects))


@few
@pytest.mark.parametrize("command", thinned(LOADS, 2))
def test_a_command_loads_only_what_its_job_needs(command: str, home: Path) -> None:
    other_logs(home)
    words = [sys.executable, "-c", CODE, *command.split()]
    done = subprocess.run(words, cwd=home, capture_output=True, text=True, check=True)
    loaded = HEAVY & set(done.stderr.splitlines()[-1].split())
    assert loaded <= LOADS[command]
