"""What somebody does to a running bench by hand: plain state, which the station acts on."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

from ..core.model.channel import Bench
from .inject import Injection


@dataclass
class Hands:
    """Channels that are held, drives that are set or fed from elsewhere, and gates.

    held: raw values in place of a channel's own. commands: by drive, in place of what it follows.
    sources: what a drive follows instead of what the bench says. gates_off: drives at their safe
    value whatever they follow.
    """

    held: dict[str, Injection] = field(default_factory=dict)
    commands: dict[str, float] = field(default_factory=dict)
    sources: dict[str, str] = field(default_factory=dict)
    gates_off: set[str] = field(default_factory=set)

    @property
    def words(self) -> dict[str, str]:
        """What is unlike the bench about each drive, as outputs write it."""
        found = dict.fromkeys(self.sources, "fed") | dict.fromkeys(self.commands, "held")
        return found | dict.fromkeys(sorted(self.gates_off), "gate_off")

    def applied(self, bench: Bench) -> Bench:
        """The bench with drives fed as somebody wants; what is gone from it is forgotten."""
        self.held = {name: at for name, at in self.held.items() if name in bench.channels}
        self.commands = {name: at for name, at in self.commands.items() if name in bench.drives}
        self.gates_off &= set(bench.drives)
        known = {*bench.channels, *bench.trips}
        self.sources = {
            drive: source
            for drive, source in self.sources.items()
            if drive in bench.drives and source in known
        }
        if not self.sources:
            return bench
        drives = dict(bench.drives)
        for drive, source in self.sources.items():
            drives[drive] = replace(drives[drive], source=source)
        return replace(bench, drives=drives)
