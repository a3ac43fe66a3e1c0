"""How thermistor laws are fitted: 1/T is straight in powers of ln R."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ..arrays import Array
from ..model.fit_model import FitAsked, FitModel
from ..model.law import Law
from ..model.text import number, shown
from .temperature import from_kelvin, to_kelvin


class ThermistorModel(FitModel):
    """1/T over ln R; x is in Ω, the result in a temperature scale."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        self.kind = kind
        self.scale = scale = asked.unit or "degC"
        self.degrees = 1.8 if scale == "degF" else 1.0

    def refuse(self, asked: FitAsked, robust: bool) -> Iterator[tuple[tuple[int, ...], str]]:
        for i in np.flatnonzero(asked.x <= 0).tolist():
            yield (i,), f"{shown(asked.x[i], 'ohm')} is no thermistor's"
        if not robust:
            yield from self._rising(asked)

    @staticmethod
    def _rising(asked: FitAsked) -> Iterator[tuple[tuple[int, ...], str]]:
        """A thermistor's temperature falls as its ohms rise; small steps back may be noise."""
        order = np.argsort(asked.x)
        x, y = asked.x[order], asked.y[order]
        room = 0.05 * np.ptp(y) if x.size > 3 else 0.0
        for i in np.flatnonzero((np.diff(x) > 0) & (np.diff(y) > room)).tolist():
            yield (
                (int(order[i + 1]), int(order[i])),
                f"from {shown(x[i], 'ohm')} to {shown(x[i + 1], 'ohm')} the temperature rises; "
                "a thermistor's falls",
            )

    def link(self, eta: Array) -> Array:
        return from_kelvin(1.0 / eta, self.scale)

    def link_slope(self, eta: Array) -> Array:
        return -self.degrees / eta**2

    def unlink(self, y: Array) -> Array:
        return 1.0 / to_kelvin(y, self.scale)


class BetaModel(ThermistorModel):
    """1/T = A + B · (ln R − middle), told as r0 at a given t0 and beta = 1/B."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        super().__init__(asked, kind)
        self.t0 = asked.fixed("t0", 298.15)
        self.names, self.units = ("r0", "beta"), ("ohm", "K")
        with np.errstate(all="ignore"):
            self.middle = float(np.mean(np.log(asked.x)))

    def design(self, x: Array) -> Array:
        return np.stack([np.ones_like(x), np.log(x) - self.middle], axis=1)

    def values(self, theta: Array) -> Array:
        level, slope = theta
        return np.array([np.exp(self.middle + (1 / self.t0 - level) / slope), 1 / slope])

    def values_slope(self, theta: Array) -> Array:
        level, slope = theta
        r0 = self.values(theta)[0]
        return np.array(
            [[-r0 / slope, -r0 * (1 / self.t0 - level) / slope**2], [0.0, -1 / slope**2]]
        )

    def law(self, values: Array) -> Law:
        r0, beta = values.tolist()
        law: Law = self.kind(r0, beta, self.t0, self.scale)
        return law


class ExtendedModel(ThermistorModel):
    """1/T = A1 + B1 L + C1 L² + D1 L³ over L = ln(R / r25), with r25 given: that of the law before,
    else the resistance that the marks say for 25 °C, to three digits (A1 takes up the rest)."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        super().__init__(asked, kind)
        self.names = tuple(f"to_kelvin[{i}]" for i in range(1, 5))
        self.units = ("1/K",) * 4
        self.neutral = {"to_kelvin[4]": 0.0}
        with np.errstate(all="ignore"):
            log, kelvin = np.log(asked.x), to_kelvin(asked.y, self.scale)
        order = np.argsort(kelvin)
        near = float(np.exp(np.interp(298.15, kelvin[order], log[order])))
        self.r25 = asked.fixed("r25", float(f"{near:.3g}"))

    def design(self, x: Array) -> Array:
        return np.vander(np.log(x / self.r25), 4, increasing=True)

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(4)

    def law(self, values: Array) -> Law:
        law: Law = self.kind(self.r25, to_kelvin=tuple(values.tolist()), unit=self.scale)
        return law


class SteinhartHartModel(ThermistorModel):
    """1/T = a + b ln R + c (ln R)³; with `c` given, a and b only."""

    def __init__(self, asked: FitAsked, kind: Any) -> None:
        super().__init__(asked, kind)
        stays = np.unique(asked.x).size <= 2
        self.c = c = asked.fixed("c", 0.0) if stays else None
        if stays:
            known = f"two marks tell two coefficients: c stays {number(c or 0.0)}"
            self.notes = (f"{known}; a third mark would tell it",)
        self.names = ("a", "b") if c is not None else ("a", "b", "c")
        self.units = ("1/K",) * len(self.names)
        self.neutral = {"c": 0.0} if c is None else {}

    def design(self, x: Array) -> Array:
        log = np.log(x)
        powers = (0, 1) if self.c is not None else (0, 1, 3)
        return np.stack([log**power for power in powers], axis=1)

    def fixed(self, x: Array) -> Array:
        return np.zeros_like(x) if self.c is None else self.c * np.log(x) ** 3

    def values(self, theta: Array) -> Array:
        return theta

    def values_slope(self, theta: Array) -> Array:
        return np.eye(theta.size)

    def law(self, values: Array) -> Law:
        a, b, *c = values.tolist()
        law: Law = self.kind(a, b, c[0] if c else float(self.c or 0.0), self.scale)
        return law
