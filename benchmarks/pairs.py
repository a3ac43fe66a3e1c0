"""Made-up pairs of two sensors with a known truth: what they see, and the noise of each."""

from __future__ import annotations

import numpy as np

Array = np.ndarray[tuple[int], np.dtype[np.float64]]
Random = np.random.RandomState

SIGNALS = ("rest", "a ramp", "waves", "plateaus", "warming up")
NOISES = ("white", "memory 0.5", "memory 0.9", "hum", "heavy tails", "spikes")


def slow(random: Random, n: int, memory: float) -> Array:
    """Noise of standard deviation 1 that remembers; a random walk for a memory of 1."""
    steps = random.standard_normal(n)
    if memory == 1.0:
        return np.cumsum(steps)
    steps[1:] *= np.sqrt(1.0 - memory**2)
    for i in range(1, n):
        steps[i] += memory * steps[i - 1]
    return steps


def signal(name: str, n: int, random: Random) -> Array:
    """What both see."""
    t = np.linspace(0, 1, n)
    made: dict[str, Array] = {
        "rest": np.zeros(n),
        "a ramp": 180 * t,
        "waves": 60 * np.sin(4 * np.pi * t + random.uniform(0, 2 * np.pi)),
        "plateaus": 30.0 * np.floor(6 * t),
        "warming up": 200 * (1 - np.exp(-3 * t)),
    }
    return 100 + made[name]


def noise(name: str, n: int, random: Random, frequency: float) -> Array:
    """The noise of one of them. frequency: of a hum, in periods a sample; its phase is its own."""
    if name.startswith("memory"):
        return slow(random, n, float(name.split()[1]))
    made = random.standard_t(3, n) if name == "heavy tails" else random.standard_normal(n)
    if name == "hum":
        phase = random.uniform(0, 2 * np.pi)
        made = 0.3 * made + 1.4 * np.sin(2 * np.pi * frequency * np.arange(n) + phase)
    if name == "spikes":
        here = random.uniform(size=n) < 0.02
        made[here] += random.uniform(10, 200, int(here.sum()))
    return made


def equal_pair(
    see: str, kind: str, n: int, random: Random, ratio: float = 1.0
) -> tuple[Array, Array]:
    """Two equal sensors; the noise of the first is `ratio` times that of the second."""
    frequency = random.uniform(0.03, 0.47)
    truth = signal(see, n, random)
    noises = [noise(kind, n, random, frequency) for _ in "ab"]
    return truth + 0.5 * ratio * noises[0], truth + 0.5 * noises[1]
