"""`check`: the rules about a bench, with what each proposes tried, and what they cannot judge.
Findings are ranked by cause: what a change clears besides its own finding follows from it."""

from __future__ import annotations

import re
import warnings
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace

from ..bench.bench import Bench, BenchLike, bench_of
from ..bench.channel import Channel
from ..result import Finding, Findings, Severity, applied, refuses
from . import chains, circuits, ranges, triggers
from .changes import REFUSALS
from .facts import Facts
from .injected import injected, unexpected_value

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


Rule = Callable[[Facts], Iterator[Finding]]


BenchRule = Callable[[Bench], Iterator[Finding]]


def unknown_range(c: Facts) -> Iterator[Finding]:
    """An input without a range.

    Its laws cannot be checked over all its values.
    """
    if c.has_ends:
        return
    yield c.found(
        Severity.NOTE,
        c.key("input"),
        "its range is not known: its laws are not checked",
        "Set it, as in range = [0, 10]",
    )


#: Every rule about one channel; about a bench as a whole.
CHANNEL_RULES: tuple[Rule, ...] = (unknown_range, *circuits.RULES, *chains.RULES, *ranges.RULES)


BENCH_RULES: tuple[BenchRule, ...] = (
    *circuits.BENCH_RULES,
    *triggers.RULES,
    unexpected_value,
)


@refuses
def check(bench: BenchLike, listed: Iterable[str] | None = None) -> Findings:
    """All that the rules find in a bench, the most serious first.

    Parameters
    ----------
    bench : Bench
        The bench.
    listed : Iterable[str], optional
        Not used any more: channels know it (`lists_edge`).

    Returns
    -------
    Findings
        Findings; empty if nothing was found.

    Notes
    -----
    Where nothing was found it is empty.

    Examples
    --------
    >>> import jetruler as jr
    >>> ruler = jr.Adc(12, 3.3) >> jr.Divider(4700) >> jr.Beta(100e3, 3950)
    >>> sensor = jr.Channel("t", ruler, "ch0", limits=(20, 250))
    >>> print(jr.check(jr.Bench("Desk", {"t": sensor})))
    nothing found
    """
    bench = bench_of(bench)
    not_used(listed)
    known: dict[int, tuple[Channel, list[Finding]]] = {}

    def about(channel: Channel) -> list[Finding]:
        if id(channel) not in known:  # a change leaves most channels as they are
            facts = Facts(channel)
            rules = CHANNEL_RULES if facts.has_ends else (unknown_range,)
            known[id(channel)] = channel, [f for rule in rules for f in applied(rule, facts)]
        return known[id(channel)][1]

    def all_of(changed: Bench) -> list[Finding]:
        found = [finding for rule in BENCH_RULES for finding in applied(rule, changed)]
        return found + [f for channel in changed.own_channels for f in about(channel)]

    found = by_cause(bench, all_of(bench), all_of)
    return Findings.of(found, unjudged(bench), injected(bench))


def unjudged(bench: Bench, logged: bool = False) -> dict[str, str]:
    """What the rules cannot check in each channel, because of a number that the bench does not
    say; channels with nothing of this kind are left out. logged: whether a log shows the noise."""
    found = {}
    for channel in bench.own_channels:
        facts, wants = Facts(channel), []
        if not facts.has_ends:
            continue  # a finding of its own
        if channel.limits is None and not facts.labelled and not facts.clamps:
            fits = " and whether its resistor fits" if facts.dividers else ""
            wants.append(f"limits: whether it reaches them, how much of the range is used{fits}")
        decides = facts.labelled or any(
            c.channel == channel.name and (c.above is not None or c.below is not None)
            for trip in bench.trips.values()
            for c in trip.conditions
        )
        if decides and not channel.noise and not logged:
            wants.append("noise: whether its decisions flicker")
        if wants:
            found[channel.name] = "; ".join(wants)
    return found


def not_used(listed: object) -> None:
    """Warn of a parameter of the version before."""
    if listed is not None:
        warnings.warn("listed is not used any more", DeprecationWarning, stacklevel=3)
