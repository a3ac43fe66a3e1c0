"""The rules by name: each a function of a channel's facts, told by its docstring."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

from ..model.channel import Bench
from ..survey.finding import Finding, Findings, Severity
from .facts import Facts

Rule = Callable[[Facts], Iterator[Finding]]
BenchRule = Callable[[Bench], Iterator[Finding]]


@dataclass(frozen=True)
class Described:
    """A rule for people: its name, what it finds (one sentence), and why that matters."""

    name: str
    finds: str
    why: str


def description(rule: Callable[..., object]) -> Described:
    """A rule's name and docstring: the first paragraph says what, the second why."""
    finds, _, why = inspect.cleandoc(rule.__doc__ or "").partition("\n\n")
    name = rule.__name__.replace("_", "-")
    return Described(name, " ".join(finds.split()), " ".join(why.split()))


def applied(rule: Callable[..., object], found: Iterable[Finding]) -> list[Finding]:
    """A rule's findings with its name and its reason."""
    about = description(rule)
    return [replace(finding, rule=about.name, why=about.why) for finding in found]


def unknown_range(c: Facts) -> Iterator[Finding]:
    """An input whose range is not said.

    What its laws make of all that it can give cannot be looked at.
    """
    if c.has_ends:
        return
    yield c.found(
        Severity.NOTE,
        c.key("input"),
        "its range is not known: its laws are not checked",
        "Say it, as in range = [0, 10]",
    )


def rules() -> tuple[Rule, ...]:
    """Every rule about one channel."""
    from . import circuits, numbers, ranges

    return (unknown_range, *circuits.RULES, *ranges.RULES, *numbers.RULES)


def bench_rules() -> tuple[BenchRule, ...]:
    """Every rule about a bench as a whole."""
    from . import circuits
    from . import triggers as decisions

    return (circuits.top_counts_disagree, *decisions.RULES)


def check(bench: Bench, listed: Iterable[str] = ()) -> Findings:
    """All that the rules find in a bench, the most serious first.

    Parameters
    ----------
    bench : Bench
        The bench.
    listed : Iterable[str], default ()
        Names of the channels whose converter stands in their own list of laws, so that places
        count as the bench file does.

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
    >>> sensor = jr.Channel("t", ruler, "ch0")
    >>> print(jr.check(jr.Bench("Desk", {"t": sensor})))
    nothing found
    """
    own = set(listed)
    found = [finding for rule in bench_rules() for finding in applied(rule, rule(bench))]
    for channel in bench.channels.values():
        facts = Facts(channel, channel.name in own)
        for rule in rules() if facts.has_ends else (unknown_range,):
            found += applied(rule, rule(facts))
    return Findings.of(found)
