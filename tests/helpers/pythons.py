"""The interpreters of this computer."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path


def python(version: str) -> str | None:
    """An interpreter of this version, if there is one."""
    if sys.version_info[:2] == tuple(map(int, version.split("."))):
        return sys.executable
    kept = Path(os.environ.get("PYENV_ROOT", Path.home() / ".pyenv")) / "versions"
    found = sorted(str(path) for path in kept.glob(f"{version}.*/bin/python"))
    found += [path for path in (shutil.which(f"python{version}"),) if path]
    for path in found:
        if subprocess.run([path, "-V"], capture_output=True, check=False).returncode == 0:
            return path
    return None
