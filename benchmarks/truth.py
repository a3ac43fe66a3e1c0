"""How often verdicts are right, over many made-up cases: `make truth` writes the page.

Nothing here is timed. Every case is seeded, so that the page is the same each time.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np

import jetruler as jr

PAGE = Path(__file__).parents[1] / "docs" / "truth.md"

Array = np.ndarray[tuple[int], np.dtype[np.float64]]
Row = tuple[str, str, str]

HEAD = """# How often a verdict is right

Made by `make truth`: made-up cases of which the truth is known, all of them seeded.

| what | found | wanted |
|---|---|---|
"""

#: A slow noise remembers so much of the sample before; 1 is a random walk.
MEMORIES = (0.0, 0.5, 0.9, 0.99)
LENGTHS = (20, 50, 200, 600, 3000)


def slow(random: np.random.RandomState, n: int, memory: float) -> Array:
    """Noise of standard deviation 1 that remembers; a random walk for a memory of 1."""
    steps = random.standard_normal(n)
    if memory == 1.0:
        return np.cumsum(steps)
    steps[1:] *= np.sqrt(1.0 - memory**2)
    for i in range(1, n):
        steps[i] += memory * steps[i - 1]
    return steps


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
                f"bias, {name}, n = {n}: told; the 95 % interval holds it; misses of all",
                f"{100 * told / times:.0f} %; {of_told}; {100 * (told - held) / times:.1f} %",
                "misses ≤ 7 % of all",
            )
            yield f"false offset at 99 %, {name}, n = {n}", f"{100 * false / times:.1f} %", "≤ 2 %"


def signals(n: int) -> dict[str, Array]:
    """What two sensors may see."""
    t = np.linspace(0, 1, n)
    return {
        "a ramp": 20 + 180 * t,
        "plateaus": 50.0 + 30.0 * np.floor(6 * t),
        "waves": 100 + 60 * np.sin(12 * t),
    }


def bends(times: int) -> Iterator[Row]:
    """Is a bend seen where only the noise of the two differs?"""
    for ratio in (1, 5, 25):
        for name, signal in signals(600).items():
            random = np.random.RandomState(ratio)
            false = 0
            for _ in range(times):
                a = signal + ratio * 0.1 * random.standard_normal(600)
                b = signal + 0.1 * random.standard_normal(600)
                false += jr.compare(a, b, resolution=1e-6).verdict == "bend"
            yield f"false bend, noise {ratio} : 1, {name}", f"{100 * false / times:.1f} %", "≤ 1 %"


def found_out(times: int) -> Iterator[Row]:
    """Is an error of so many standard deviations of the mean seen among 600 pairs?"""
    n = 600
    t = np.linspace(-1, 1, n)
    shapes: dict[str, Array] = {
        "offset": np.ones(n),
        "gain": t * np.sqrt(3.0),
        "bend": (t**2 - 1 / 3) * np.sqrt(45 / 4),
    }
    # At 99 %, 3 σ cannot be seen more often than a normal variable of mean 3 passes 2.58.
    for sigmas, wanted in ((3.0, "≤ 66 %, the most there is"), (5.0, "≥ 90 %")):
        for verdict, shape in shapes.items():
            random = np.random.RandomState(7)
            seen = 0
            for _ in range(times):
                size = sigmas * np.sqrt(2.0) * 0.5 / np.sqrt(n)
                a = 100 + 90 * t + size * shape + 0.5 * random.standard_normal(n)
                b = 100 + 90 * t + 0.5 * random.standard_normal(n)
                seen += jr.compare(a, b, resolution=1e-6).verdict == verdict
            name = f"{verdict} of {sigmas:g} σ of the mean, n = {n}: seen"
            yield name, f"{100 * seen / times:.0f} %", wanted


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
    for law, truth, (low, high), noise in FITTED:
        for n in (6, 10, 30):
            for known in (True, False):
                random = np.random.RandomState(n)
                held = 0
                for _ in range(times):
                    x = np.geomspace(max(low, 1), high, n) if low else np.linspace(low, high, n)
                    y = np.asarray(truth(x)) + noise * random.standard_normal(n)
                    columns = [x, y, np.full(n, noise)][: 3 if known else 2]
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


def main() -> None:
    """Write the page."""
    parts: tuple[tuple[Callable[[int], Iterator[Row]], int], ...] = (
        (biases, 300),
        (bends, 200),
        (found_out, 200),
        (straight, 40),
        (averages, 40),
        (coverages, 600),
        (straight_and_outliers, 400),
    )
    rows = [row for part, times in parts for row in part(times)]
    PAGE.write_text(HEAD + "".join(f"| {a} | {b} | {c} |\n" for a, b, c in rows), "utf-8")
    print(PAGE.read_text("utf-8"))


if __name__ == "__main__":
    main()
