"""How often verdicts are right, over many made-up cases: `make truth` writes the page.

Nothing here is timed. Every case is seeded, so that the page is the same each time.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

import jetruler as jr

from .pairs import NOISES, SIGNALS, equal_pair, noise, signal, slow

PAGE = Path(__file__).parents[1] / "docs" / "truth.md"

Array = np.ndarray[tuple[int], np.dtype[np.float64]]
Row = tuple[str, str, str]

HEAD = """# How often a verdict is right

Made by `make truth`: simulated cases with a known truth, all seeded.

| what | found | wanted |
|---|---|---|
"""

#: A slow noise remembers so much of the sample before; 1 is a random walk.
MEMORIES = (0.0, 0.5, 0.9, 0.99)
LENGTHS = (20, 50, 200, 600, 3000)


def biases(times: int) -> Iterator[Row]:
    """Does the 95 % interval hold the bias, and is a bias seen where there is none?"""
    for memory in (*MEMORIES, 1.0):
        for n in LENGTHS:
            random = np.random.RandomState(n)
            told = held = false = 0
            for _ in range(times):
                a = 50.0 + slow(random, n, memory)
                found = jr.compare(a, np.full(n, 50.0), resolution=1e-6)
                false += found.verdict == "offset"
                if np.isfinite(found.half_width):
                    told += 1
                    held += abs(found.bias) <= found.half_width
            name = "random walk" if memory == 1.0 else f"memory {memory:g}" if memory else "white"
            of_told = f"{100 * held / told:.0f} % of those" if told else "–"
            yield (
                f"bias, {name}, n = {n}: interval given; true value inside; misses of all",
                f"{100 * told / times:.0f} %; {of_told}; {100 * (told - held) / times:.1f} %",
                "misses ≤ 7 % of all",
            )
            yield f"false offset at 99 %, {name}, n = {n}", f"{100 * false / times:.1f} %", "≤ 2 %"


def verdict(found: jr.results.Comparison) -> str:
    """A delay is a verdict, too."""
    told = found.verdict in ("agree", "cannot tell")
    return "delay" if told and found.delay.samples else str(found.verdict)


def no_verdicts(times: int) -> Iterator[Row]:
    """Do two equal sensors get any verdict?"""
    for kind in NOISES:
        for see in SIGNALS:
            false = cases = 0
            for n in (3, 5, 12, 20, 25, 40, 80, 200, 600):
                for ratio in (1.0, 3.0):
                    random = np.random.RandomState(n)
                    for _ in range(times):
                        a, b = equal_pair(see, kind, n, random, ratio)
                        false += verdict(jr.compare(a, b)) not in ("agree", "cannot tell")
                        cases += 1
            found = f"{100 * false / cases:.1f} %"
            yield f"equal sensors, {see}, {kind}, n = 3 to 600: any verdict", found, "≤ 1.5 %"


SHAPES = ("offset", "gain", "bend")


def found_out(times: int) -> Iterator[Row]:
    """Is an error of five standard errors seen, of one parameter among all that are asked for?"""
    for n in (60, 100, 200, 600, 3000):
        t = np.linspace(-1, 1, n)
        columns = np.linalg.qr(np.vander(t, 3, increasing=True))[0]
        for shape, column in zip(SHAPES, columns.T, strict=True):
            random = np.random.RandomState(7)
            seen = 0
            for _ in range(times):
                off = 5.0 * np.sqrt(2.0) * 0.5 * column * np.sign(column[-1])
                a = 100 + 90 * t + off + 0.5 * random.standard_normal(n)
                b = 100 + 90 * t + 0.5 * random.standard_normal(n)
                seen += jr.compare(a, b).verdict == shape
            yield (
                f"{shape} of 5 standard errors, n = {n}: seen",
                f"{100 * seen / times:.0f} %",
                ("≥ 95 %" if n > 60 else "≥ 91 %, the power that the level leaves"),
            )


def named(times: int) -> Iterator[Row]:
    """Are swapped legs, a gain far from 1 and a delay named?"""
    for factor in (-1.0, 0.1, -0.5):
        seen = cases = 0
        for n in (60, 150, 600):
            for see in SIGNALS[1:]:
                random = np.random.RandomState(n)
                for _ in range(times):
                    truth = signal(see, n, random)
                    a, b = (0.5 * random.standard_normal(n) for _ in "ab")
                    found = jr.compare(100 + factor * (truth - 100) + a, truth + b)
                    seen += found.verdict == ("reversed" if factor < 0 else "gain")
                    cases += 1
        yield f"gain {factor:g}, n = 60 to 600: named", f"{100 * seen / cases:.0f} %", "≥ 98 %"
    for late in (1, 2, 5, 20):
        seen = cases = 0
        for see in ("waves", "plateaus"):
            for kind in ("white", "hum", "spikes"):
                random = np.random.RandomState(late)
                for _ in range(times):
                    truth = signal(see, 600 + late, random)
                    a, b = (0.5 * noise(kind, 600, random, 0.17) for _ in "ab")
                    found = jr.compare(truth[:600] + a, truth[late:] + b)
                    seen += abs(found.delay.samples - late) < 0.5
                    cases += 1
        yield f"delay of {late} samples: named", f"{100 * seen / cases:.0f} %", "≥ 98 %"


def straight(times: int) -> Iterator[Row]:
    """Is the first order rejected in a straight chain with noise alone?"""
    chain = jr.Adc(16, 3.3) >> jr.Line(1000)
    for draws in (1000, 20_000, 200_000, None):
        rejected = 0
        for seed in range(times):
            size = 10.0 ** np.random.RandomState(seed).uniform(1, 3)
            run = jr.simulate(chain, 20_000, noise=size, seed=seed, draws=draws)
            rejected += not run.first_order
        name = f"{draws} draws" if draws else "until stable"
        yield f"straight chain, {name}: first order rejected", f"{rejected} of {times}", "0"


def hum(random: np.random.RandomState, n: int) -> Array:
    """Mains as sampling makes it, with some noise."""
    wave: Array = 3 * np.sin(2 * np.pi * np.arange(n) / 17.3 + random.uniform(0, 2 * np.pi))
    return wave + 0.5 * random.standard_normal(n)


#: Kinds of noise at rest, each of deviation 1.
AT_REST: tuple[tuple[str, Callable[[np.random.RandomState, int], Array]], ...] = (
    ("white", lambda random, n: random.standard_normal(n)),
    ("even", lambda random, n: random.uniform(-1, 1, n) * 3**0.5),
    ("heavy tails", lambda random, n: random.standard_t(4, n) / 2**0.5),
    ("memory 0.5", lambda random, n: slow(random, n, 0.5)),
    ("memory 0.9", lambda random, n: slow(random, n, 0.9)),
    ("hum alone", lambda random, n: swing(random, n)),
    ("hum and white", lambda random, n: (swing(random, n) + random.standard_normal(n)) / 2**0.5),
)


def swing(random: np.random.RandomState, n: int) -> Array:
    """A steady wave, begun anywhere."""
    phase = random.uniform(0, 2 * np.pi)
    wave: Array = 2**0.5 * np.sin(2 * np.pi * 0.137 * np.arange(n) + phase)
    return wave


def means(times: int) -> Iterator[Row]:
    """Does the 95 % interval of a mean at rest hold the true value, for noises of 0.1 to 10 LSB?"""
    for name, make in AT_REST:
        for n in (10, 30, 100, 400, 1500):
            random = np.random.RandomState(n)
            told = held = 0
            for _ in range(times):
                for size in (0.1, 0.3, 1.0, 3.0, 10.0):
                    true = 1880 + random.uniform()
                    counts = np.rint(true + size * make(random, n)).astype(np.int64)
                    found = jr.survey(counts, 12)
                    if np.isfinite(found.known.half_width):
                        told += 1
                        held += abs(found.mean - true) <= found.known.half_width
            all_of = 5 * times
            of_told = f"{100 * held / told:.0f} % of those" if told else "–"
            yield (
                f"mean at rest, {name}, n = {n}: interval given; true value inside; misses of all",
                f"{100 * told / all_of:.0f} %; {of_told}; {100 * (told - held) / all_of:.1f} %",
                "misses ≤ 7 % of all",
            )


def averages(times: int) -> Iterator[Row]:
    """Do means of so many fresh readings spread as a log of 20,000 says?"""
    makes: tuple[tuple[str, Callable[[np.random.RandomState, int], Array]], ...] = (
        ("white", lambda random, n: random.standard_normal(n)),
        ("memory 0.95", lambda random, n: slow(random, n, 0.95)),
        ("hum", hum),
    )
    for name, make in makes:
        for target in (0.5, 0.2, 0.1):
            random = np.random.RandomState(2)
            squares = []
            for _ in range(times):
                found = jr.how_many(make(random, 20_000), target)
                n = found.readings or 1
                means = make(random, 20 * n).reshape(-1, n).mean(axis=1)
                squares.append(float(np.mean(means**2)) / found.noise_after**2)
            spread = f"{np.sqrt(np.mean(squares)):.2f}"
            yield f"spread of means / promised, {name}, to {target:g} of 1", spread, "0.9–1.1"


#: Laws that can be fitted, each with its range and its noise.
FITTED: tuple[tuple[str, Callable[[Array], Array], tuple[float, float], float], ...] = (
    ("line", jr.Line(0.05, 3.0), (0, 4000), 0.5),
    ("polynomial", jr.Polynomial((1.0, 0.05, -4e-6)), (0, 4000), 0.5),
    ("power", jr.PowerLaw(2e3, -0.8), (50, 3000), 0.3),
    ("beta", jr.Beta(1e4, 3435), (1e3, 5e4), 0.05),
    ("steinhart-hart", jr.SteinhartHart(1.1384e-3, 2.3245e-4, 9.489e-8), (1e3, 5e4), 0.05),
    (
        "steinhart-hart-extended",
        jr.SteinhartHartExtended(1e4, to_kelvin=(3.354e-3, 2.57e-4, 2.6e-6, 6.3e-8)),
        (1e3, 5e4),
        0.05,
    ),
)


def coverages(times: int) -> Iterator[Row]:
    """Does the 95 % interval of a fit hold the truth, at a place between the marks?"""
    for law, truth, (low, high), size in FITTED:
        for n in (6, 10, 30):
            for known in (True, False):
                random = np.random.RandomState(n)
                held = 0
                for _ in range(times):
                    x = np.geomspace(max(low, 1), high, n) if low else np.linspace(low, high, n)
                    y = np.asarray(truth(x)) + size * random.standard_normal(n)
                    columns = [x, y, np.full(n, size)][: 3 if known else 2]
                    degree = 2 if law == "polynomial" else None
                    found = jr.fit(np.stack(columns, axis=1), law, degree=degree)
                    at = float(np.exp(random.uniform(np.log(max(low, 1)), np.log(high))))
                    off = abs(float(found.law(at)) - float(truth(np.array([at]))[0]))
                    held += off <= found.interval(at)[0]
                told = "u_true given" if known else "scatter alone"
                yield (
                    f"fit, {law}, {n} marks, {told}: covers",
                    f"{100 * held / times:.0f} %",
                    "93–97",
                )


def shared_errors(times: int) -> Iterator[Row]:
    """Does the interval hold the truth where one thermometer serves all marks, and that is said?"""
    for n in (6, 30, 100):
        for known in (True, False):
            random = np.random.RandomState(n)
            held = 0
            x = np.linspace(100, 4000, n)
            for _ in range(times):
                y = 0.05 * x + 3 + 0.5 * random.standard_normal(n) + 0.8 * random.standard_normal()
                marks = jr.Marks(x, y, np.full(n, 0.5) if known else None, u_common=0.8)
                found = jr.fit(marks)
                at = float(random.uniform(100, 4000))
                held += abs(float(found.law(at)) - 0.05 * at - 3) <= found.interval(at)[0]
            told = "u_true given" if known else "scatter alone"
            name = f"fit, line, {n} marks, a shared error stated, {told}: covers"
            yield name, f"{100 * held / times:.0f} %", "93–97"
    for factor in (1, 2, 3, 5):
        random, held = np.random.RandomState(4), 0
        x = np.linspace(0, 100, 4)
        for _ in range(times):
            y = 2 * x + 5 + factor * random.standard_normal(4)
            found = jr.fit(np.stack([x, y, np.ones(4)], axis=1))
            held += abs(found.law(30.0) - 65.0) <= found.interval(30.0)[0]
        small = f"{factor} times too small" if factor > 1 else "right"
        name = f"fit, line, two spare marks, u_true {small}: covers"
        yield name, f"{100 * held / times:.0f} %", "≥ 93 %"


def medians(times: int) -> Iterator[Row]:
    """Is a median of whole counts as far off as its budget says?"""
    ratios = []
    for over in (3, 4, 5, 7, 16, 25, 51):
        for size in (0.1, 0.2, 0.4, 1.0, 2.0, 3.0):
            random = np.random.RandomState(over)
            level = random.uniform(100, 200, 20 * times)
            counts = np.round(level[:, None] + size * random.standard_normal((level.size, over)))
            rms = float(np.sqrt(np.mean((np.median(counts, axis=1) - level) ** 2)))
            smooth = jr.Smoothing("median", over)
            chain = jr.Counts(12) >> jr.Line(1.0)
            channel = jr.Channel("c", chain, "c", noise=size, smooth=smooth)
            ratios.append(rms / jr.budget(channel, 150).combined)
    name = "rms / promised, median of 3 to 51, noise of 0.1 to 3 counts: least, most"
    yield name, f"{min(ratios):.2f}, {max(ratios):.2f}", "0.95–1.1"


def straight_and_outliers(times: int) -> Iterator[Row]:
    """Is a straight truth kept straight, and a wrong mark found?"""
    for n in (5, 6, 10, 30):
        random = np.random.RandomState(n)
        kept = found = false = 0
        for _ in range(times):
            x = np.linspace(0, 100, n)
            y = 2 * x + 5 + random.standard_normal(n)
            kept += len(jr.fit(np.stack([x, y], axis=1), "polynomial").parameters) == 2
            ones = np.ones(n)
            false += bool(jr.fit(np.stack([x, y, ones], axis=1), robust=True).outliers)
            wrong = random.randint(n)
            y[wrong] += 12 * random.choice([-1, 1])
            found += jr.fit(np.stack([x, y, ones], axis=1), robust=True).outliers == (wrong,)
        yield f"straight truth kept straight, {n} marks", f"{100 * kept / times:.0f} %", "≥ 95"
        yield f"outlier of 12 u found, {n} marks", f"{100 * found / times:.0f} %", "≥ 80"
        yield f"outlier named where there is none, {n} marks", f"{100 * false / times:.1f} %", "≤ 2"


def missed(found: str, wanted: str) -> str:
    """A sign where a figure misses its goal: all its numbers count, of several figures the last."""
    numbers = [float(part) for part in re.findall(r"\d+(?:\.\d+)?", found.rpartition(";")[2])]
    goal = [float(part) for part in re.findall(r"\d+(?:\.\d+)?", wanted)]
    if "of" in found:  # 0 of 40
        numbers = numbers[:1]
    if "–" in wanted:
        good = all(goal[0] <= number <= goal[1] for number in numbers)
    elif "≥" in wanted:
        good = all(number >= goal[0] for number in numbers)
    else:
        good = all(number <= goal[0] for number in numbers)
    return "" if good else " **(missed)**"


def main() -> None:
    """Write the page."""
    parts: tuple[tuple[Callable[[int], Iterator[Row]], int], ...] = (
        (biases, 300),
        (no_verdicts, 40),
        (found_out, 300),
        (named, 40),
        (straight, 40),
        (means, 200),
        (averages, 40),
        (coverages, 600),
        (shared_errors, 600),
        (medians, 400),
        (straight_and_outliers, 400),
    )
    rows = [row for part, times in parts for row in part(times)]
    lines = [f"| {a} | {b}{missed(b, c)} | {c} |\n" for a, b, c in rows]
    PAGE.write_text(HEAD + "".join(lines), "utf-8")
    print(PAGE.read_text("utf-8"))


if __name__ == "__main__":
    main()
