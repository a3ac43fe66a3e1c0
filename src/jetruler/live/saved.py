"""Whether a file was saved again: noticed when it is whole, not while it is being written."""

from __future__ import annotations

from pathlib import Path


class Saved:
    """Looks at a file now and then."""

    def __init__(self, path: str) -> None:
        self._path = Path(path)
        self._known = self._last = self._state()

    def again(self) -> bool:
        """Whether it is another one than was known, and the same as at the last look."""
        now, last = self._state(), self._last
        self._last = now
        if now == self._known or now != last:
            return False
        self._known = now
        return True

    def _state(self) -> tuple[int, int] | None:
        try:
            found = self._path.stat()
        except OSError:
            return None
        return found.st_mtime_ns, found.st_size
