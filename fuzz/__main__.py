"""Run inputs in a process that may crash or hang, watch it, and report."""

from __future__ import annotations

import argparse
import multiprocessing as mp
import sys
import tempfile
import time
from collections import Counter
from dataclasses import dataclass, field
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess

from .targets import KINDS
from .worker import work

#: Seconds that one input may take.
HANG = 10.0


@dataclass
class Report:
    """What came of the inputs of one kind."""

    kind: str
    inputs: int = 0
    taken: int = 0
    refused: int = 0
    found: Counter[str] = field(default_factory=Counter)
    """Internal errors, crashes and hangs, by what they say."""
    first: dict[str, int] = field(default_factory=dict)
    """The number of the first input of each."""
    left: int = 0
    peak: int = 0

    def note(self, what: str, number: int) -> None:
        """Something that must not be."""
        self.found[what] += 1
        self.first.setdefault(what, number)

    def __str__(self) -> str:
        text = (
            f"{self.kind:<8} {self.inputs:>6} inputs: {self.taken} taken, {self.refused} refused, "
        )
        text += (
            f"{self.found.total()} unexpected, {self.left} half-written, peak {self.peak >> 20} MB"
        )
        each = [f"  {n} × {w} (first: {self.first[w]})" for w, n in self.found.items()]
        return "\n".join([text, *each])


def fuzz(kind: str, first: int, many: int, until: float) -> Report:
    """Inputs of one kind, until the time is over."""
    report = Report(kind)
    number, last = first, first + many
    while number < last and time.monotonic() < until:
        with tempfile.TemporaryDirectory() as home:
            ours, theirs = mp.get_context("spawn").Pipe(duplex=False)
            process = mp.get_context("spawn").Process(
                target=work, args=(kind, number, min(500, last - number), home, theirs)
            )
            process.start()
            theirs.close()
            number = _watch(report, process, ours, number, until)
    return report


def _watch(
    report: Report, process: BaseProcess, ours: Connection, number: int, until: float
) -> int:
    """Follow a process; the number to go on with."""
    under_way = -1
    while True:
        patience = 60.0 if under_way < 0 else HANG  # it starts first
        if not ours.poll(patience):
            process.kill()
            report.note(f"a hang over {HANG:g} s", under_way)
            return under_way + 1
        try:
            what, about = ours.recv()
        except EOFError:
            process.join()
            if under_way < 0:
                return number
            report.note(f"a crash, exit code {process.exitcode}", under_way)
            return under_way + 1
        if what == "end":
            report.left += about
        elif what == "peak":
            report.peak = max(report.peak, about)
            process.join()
            return number
        elif what == "begin":
            under_way, number = about, about + 1
            report.inputs += 1
            if time.monotonic() > until:
                process.kill()
                report.inputs -= 1
                return number
        elif what in ("taken", "refused"):
            setattr(report, what, getattr(report, what) + 1)
            under_way = number
        else:
            report.note(what, about)


def main() -> int:
    """Run what was asked for; 1 if something unexpected was found."""
    asked = argparse.ArgumentParser(prog="fuzz", description=__doc__)
    asked.add_argument("--seconds", type=float, default=60.0)
    asked.add_argument("--kind", choices=list(KINDS), action="append")
    asked.add_argument("--first", type=int, default=0)
    asked.add_argument("--many", type=int, default=1_000_000)
    given = asked.parse_args()
    kinds = given.kind or list(KINDS)
    bad = 0
    for kind in kinds:
        until = time.monotonic() + given.seconds / len(kinds)
        report = fuzz(kind, given.first, given.many, until)
        print(report, flush=True)
        bad += report.found.total() + report.left
    return int(bad > 0)


if __name__ == "__main__":
    sys.exit(main())
