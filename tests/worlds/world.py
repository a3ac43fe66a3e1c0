"""A bench file and a log of which everything is known."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

import numpy as np

from tests.helpers.line_forms import FORMS

from .chains import Chain, Edge, chain, edge
from .signals import FAULTS, Signal, signal

#: Seconds between two samples.
INTERVAL = 0.1


@dataclass(frozen=True)
class Made:
    """A channel: its name and column, where it comes from, what it makes of it, its samples."""

    name: str
    column: str | int
    edge: Edge
    chain: Chain
    signal: Signal
    decimals: int
    limits: tuple[float, float] | None
    text: str

    def value(self, raw: Any) -> Any:
        """What raw values read, by the formulas in NumPy; NaN where a sample is none."""
        raw = np.asarray(raw, np.float64)
        there = (raw >= self.edge.lowest) & (raw <= self.edge.highest)
        with np.errstate(all="ignore"):
            return np.where(
                there, self.chain.value(np.where(there, raw, self.chain.ends[0])), np.nan
            )

    def shown(self, raw: Any) -> Any:
        """Whether a raw value is one that all laws have a value for."""
        low, high = self.chain.ends
        return (raw >= low) & (raw <= high)


@dataclass(frozen=True)
class World:
    """A board, its bench file and its log. sound: whether nothing is wrong with it."""

    seed: int
    channels: tuple[Made, ...]
    bench: str
    log: str
    form: str
    interval: float
    """Seconds between two samples; 0 where its log does not tell."""
    decisions: tuple[str, float, float] | None
    """The channel that trip and drive follow, and the values between which they change."""
    first_line: int
    """The line of the first sample."""
    numbered: bool

    @property
    def encoding(self) -> str:
        """How its log is written: one in three as other systems do."""
        return ("utf-8", "utf-8", "utf-8", "utf-8", "cp1252", "utf-16")[self.seed % 6]

    @property
    def sound(self) -> bool:
        return not any(c.signal.fault for c in self.channels)

    def __str__(self) -> str:
        about = [
            f"{c.name}: {c.edge.kind} {c.edge.bits} bits {c.edge.unit}, {'+'.join(c.chain.names)}, "
            f"{c.signal.move}, {c.signal.noises} {c.signal.noise:.3g} {c.signal.fault}"
            for c in self.channels
        ]
        return f"world {self.seed}: {self.form}; {'; '.join(about)}"


def world(seed: int) -> World:
    """The world of a seed. One in three is broken, at known rows."""
    random = np.random.RandomState(seed)
    rows = int(random.choice([900, 1200, 3000], p=[0.4, 0.4, 0.2]))
    if random.rand() < 0.55:
        return _one_column(random, seed, rows)
    return _table(random, seed, rows)


def _fault(random: np.random.RandomState) -> str:
    return str(random.choice(FAULTS)) if random.rand() < 0.35 else ""


def _one_column(random: np.random.RandomState, seed: int, rows: int) -> World:
    """A line form with one value: whatever a board may print."""
    form = FORMS[random.randint(len(FORMS))]
    made = _made(random, "k", form.column, rows, form.missing)
    lines = form.text(made.signal.cells)
    text, decisions = _bench(random, (made,))
    return World(seed, (made,), text, "\n".join(lines) + "\n", form.name, form.clock, decisions,
                 1 + bool(form.header), isinstance(form.column, int))  # fmt: skip


def _table(random: np.random.RandomState, seed: int, rows: int) -> World:
    """Cells in columns, with or without a header and a clock."""
    sign = str(random.choice([",", ";", "\t"]))
    header = random.rand() < 0.6
    clock = str(random.choice([*CLOCKS], p=(0.4, 0.3, 0.1, 0.1, 0.1)))
    told = [*CLOCKS[clock]]
    names = [str(n) for n in random.permutation(["ch0", "raw", "level_in"])[: random.randint(2, 4)]]
    first = 1 + len(told)
    columns: list[str | int] = [*names] if header else [i + first for i in range(len(names))]
    # Two conventions for the top count on one bench are none of a sound one: no "full" here.
    made = tuple(
        _made(
            random, name.replace("level_in", "level"), column, rows, ("nan", "", "NA"), alone=False
        )
        for name, column in zip(names, columns, strict=True)
    )
    times = [CLOCKS[clock][name] for name in told]
    moments = [_BEGUN + timedelta(seconds=i * INTERVAL) for i in range(rows)]
    cells = [[of(m) for m in moments] for of in times] + [c.signal.cells for c in made]
    lines = [sign.join(row) for row in zip(*cells, strict=True)]
    units = header and random.rand() < 0.2
    if units:
        seconds = ["s" if name == "time_s" else "" for name in told]
        lines = [sign.join(seconds + [c.edge.unit.replace("1", "") for c in made]), *lines]
    if header:
        lines = [sign.join(told + names), *lines]
    form = (
        f"table {sign!r}{', header' * header}{', units' * units}{', clock ' * bool(clock)}{clock}"
    )
    text, decisions = _bench(random, made)
    if clock and not header:
        text += f"[log]\ntime = {len(told)}\n"
    log = "\n".join(lines) + "\n"
    return World(
        seed,
        made,
        text,
        log,
        form,
        INTERVAL * bool(clock),
        decisions,
        1 + header + units,
        not header,
    )


#: Logs begin a minute before midnight.
_BEGUN = datetime(2026, 11, 30, 23, 59)


def _of_day(moment: datetime) -> str:
    return moment.isoformat(timespec="milliseconds")[11:]


#: How a log tells the time: its columns, and what each has of a moment.
CLOCKS: dict[str, dict[str, Callable[[datetime], str]]] = {
    "": {},
    "seconds": {"time_s": lambda m: f"{(m - _BEGUN).total_seconds():.1f}"},
    "stamp": {"time": lambda m: m.isoformat(timespec="milliseconds")},
    "time of day": {"time": _of_day},
    "date and time": {"date": lambda m: m.date().isoformat(), "time": _of_day},
}


def _made(
    random: np.random.RandomState,
    name: str,
    column: str | int,
    rows: int,
    missing: tuple[str, ...],
    alone: bool = True,
) -> Made:
    fault = _fault(random)
    kind = {"shifted": "shifted", "floating": "plain", "saturation": "plain", "glued": "plain"}
    of = edge(random, kind.get(fault, ""))
    if of.bits < 8 or (of.kind == "input" and fault in ("open", "short", "spike", "stuck")):
        of = edge(random, "plain")
    while (of.bits < 8 and fault) or (of.kind == "full" and not alone):
        of = edge(random, "plain")
    move = "rails" if not fault and random.rand() < 0.12 and of.unit == "count" else ""
    laws = _knob(of) if move else chain(random, of)
    samples = signal(random, of, laws.ends, rows, missing, fault, move)
    text = [f"[channel.{name}]", f"column = {json.dumps(column)}", of.toml]
    if fault == "shifted":
        of = replace(of, highest=65535, step=1)
        text[-1] = "converter = { bits = 16, vref = 3.3, count_at_vref = 65520 }"
        laws = Chain((), lambda n: n / 65520 * 3.3, "V", laws.ends, ())
    text.append(f"laws = [{', '.join(laws.laws)}]")
    decimals = 0 if laws.labels or "whole" in laws.names else _decimals(of, laws)
    decimals = max(0, decimals - int(random.randint(0, 2)))
    limits = None
    if not laws.labels:
        if not move and not {"magnitude", "whole"} & set(laws.names):
            limits = _limits(of, laws)
            text.append(f"limits = [{limits[0]}, {limits[1]}]")
        text.append(f"decimals = {decimals}")
    if move:
        text.append('rails = "ends"')
    return Made(name, column, of, laws, samples, decimals, limits, "\n".join(text) + "\n")


def _knob(of: Edge) -> Chain:
    """A knob wired from rail to rail."""
    laws = (
        f'{{ law = "line", marks = [[{of.lowest:.0f}, 0], [{of.highest:.0f}, 100]], unit = "%" }}',
        '{ law = "clamp", low = 0, high = 100 }',
    )
    lowest, span = of.lowest, of.span
    value = lambda n: np.clip((n - lowest) / span * 100, 0, 100)  # noqa: E731
    return Chain(laws, value, "%", (of.lowest, of.highest), ("line", "clamp"))


def _limits(edge: Edge, of: Chain) -> tuple[float, float]:
    """Limits that the travel keeps within, noise and all, and that the range still reaches."""
    values = of.value(_with_room(edge, of))
    return float(f"{np.min(values):.7g}"), float(f"{np.max(values):.7g}")


def _with_room(edge: Edge, of: Chain) -> Any:
    beyond = max(0.018 * edge.span, 3 * edge.step)
    return np.linspace(of.ends[0] - beyond, of.ends[1] + beyond, 501)


def _decimals(edge: Edge, of: Chain) -> int:
    """Places that the steps of the raw values leave a meaning."""
    raw = _with_room(edge, of)
    step = float(np.max(np.abs(of.value(raw + edge.step) - of.value(raw))))
    return int(np.clip(np.floor(-np.log10(max(step, 1e-9))), 0, 6))


Decisions = tuple[str, float, float] | None


def _bench(random: np.random.RandomState, made: tuple[Made, ...]) -> tuple[str, Decisions]:
    decisions: Decisions = None
    parts = ['title = "Bench"\n', *(c.text for c in made)]
    numbers = [c for c in made if not c.chain.labels and c.limits]
    if numbers and random.rand() < 0.4:
        c = numbers[0]
        values = c.value(np.linspace(*c.chain.ends, 101))
        low, high = float(np.quantile(values, 0.3)), float(np.quantile(values, 0.8))
        if high - low > 1e-9:
            decisions = c.name, low, high
            parts.append(
                f'[trip.hot]\nany = [{{ channel = "{c.name}", above = {high}, release = {low} }}]\n'
                f'[drive.fan]\nfrom = "{c.name}"\nmarks = [[{low}, 0], [{high}, 255]]\nsafe = 7\n'
            )
    return "\n".join(parts), decisions
