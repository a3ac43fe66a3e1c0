"""Findings by their causes: each rule's change is tried; what else it clears follows from it."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace

from ..bench.bench import Bench
from ..finding import Finding
from .changes import REFUSALS

#: Rules that see what something else may have done: they explain no other kind of rule.
SYMPTOMS = frozenset(
    (
        "limits-out-of-reach",
        "few-counts",
        "coarse-step",
        "skipped-numbers",
        "overflowing-product",
        "narrow-zones",
        "turns-back",
        "unreachable-threshold",
        "flickering-threshold",
        "noisy-zones",
        "other-noise",
        "clamp-hides",
        "unreached-marks",
        "flickering-trip",
        "unexpected-value",
    )
)
_NUMBER = re.compile(r"\[\d+ ")


def _key(finding: Finding) -> tuple[str, str]:
    """What makes a finding the same, although its law may have moved."""
    return finding.rule, _NUMBER.sub("[", finding.where)


def by_cause(
    bench: Bench, found: Sequence[Finding], again: Callable[[Bench], Sequence[Finding]]
) -> list[Finding]:
    """The findings that explain the others, each with its change and those that it explains.

    again: what the same rules find in a changed bench. A change that leaves its finding, or
    raises a new one, is no remedy and is not shown.
    """
    before = {_key(finding) for finding in found}
    shown: list[Finding] = []
    gone: list[set[tuple[str, str]]] = []
    for finding in found:
        text, cleared = "", {_key(finding)}
        for change in finding._changes:
            try:
                after = {_key(one) for one in again(change.apply(bench))}
            except REFUSALS:
                continue
            if _key(finding) not in after and after <= before:
                text, cleared = str(change), before - after
                break
        shown.append(replace(finding, change=text, _changes=()))
        gone.append(cleared)

    def rank(i: int) -> tuple[bool, int, int]:  # rules stand in the order of causes
        return shown[i].rule in SYMPTOMS, -len(gone[i]), i

    heads: list[Finding] = []
    left = set(range(len(shown)))
    for i in sorted(left, key=rank):
        if i not in left:
            continue
        follow = [j for j in sorted(left) if j != i and _key(shown[j]) in gone[i]]
        left -= {i, *follow}
        explained = tuple(replace(shown[j], change="") for j in follow)
        heads.append(replace(shown[i], explains=explained))
    return heads
