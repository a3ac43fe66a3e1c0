"""A drive at work: values in, commands out, in whichever mode it is."""

from __future__ import annotations

import math

import numpy as np

from ..numerics import AnyArray, Array, Truths
from ..ruler.rounding import nearest, on_edges
from .drives import Drive
from .modes import DriveMode, joined, stretches


class Driver:
    """A drive at work: batches of times and values in, commands out. It starts at safe."""

    def __init__(self, drive: Drive) -> None:
        self.drive = drive
        pairs = sorted(drive.marks)
        self._values = np.array([value for value, _ in pairs], dtype=np.float64)
        self._commands = np.array([command for _, command in pairs], dtype=np.float64)
        self._level = float(drive.safe)
        self._time = math.nan
        self.command = float(drive.safe)
        self.safe = True
        self._mode, self._active = 0, self
        self._in_modes = [self, *(Driver(drive.in_mode(mode)) for mode in drive.modes)]

    def add(
        self, times: Array, values: Array, unsafe: Truths, by_hand: float | None = None
    ) -> tuple[Array, Truths]:
        """The command at each sample, and whether it is the safe value. unsafe: where nothing
        better is known; so it is where there is no value. by_hand: the command that somebody
        wants instead; the clamp, the slew limit and what is unsafe hold for it too."""
        drive = self.drive
        if not times.size:
            return np.empty(0), np.zeros(0, np.bool_)
        safe: Truths = unsafe if by_hand is not None else unsafe | np.isnan(values)
        if by_hand is not None:
            target = np.full(times.size, by_hand)
        else:
            followed = np.where(safe, self._values[0], values)
            target = np.interp(followed, self._values, self._commands)
        off = drive.off or 0.0
        away = on_edges(np.abs(target - off), (drive.dead_band,), max(map(abs, drive.bounds)))
        target[away <= drive.dead_band] = off
        target = np.clip(target, *drive.bounds)
        target[safe] = drive.safe
        if drive.slew is not None:
            target = self._slewed(times, target, safe)
        if drive.whole:
            target = nearest(target)
        commands = np.clip(target, *drive.bounds) + 0.0
        self.command, self.safe = float(commands[-1]), bool(safe[-1])
        return commands, safe

    def add_in_modes(
        self,
        times: Array,
        values: Array,
        unsafe: Truths,
        by_hand: float | None,
        modes: AnyArray,
    ) -> tuple[Array, Truths]:
        """The same, with the mode at each sample: 0 is none, else its place among the drive's. A
        mode begins where the one before it left the actuator."""
        parts = []
        for place, part in stretches(modes):
            if place != self._mode:
                self._mode = place
                following = self._in_modes[place]
                following.start_at(self.command)
                following._time = self._active._time
                self._active = following
            shut = unsafe[part] | (place > 0 and not self.drive.modes[place - 1].gate)
            parts.append(self._active.add(times[part], values[part], shut, by_hand))
            self.command, self.safe = self._active.command, self._active.safe
        return joined(parts)

    @property
    def mode(self) -> DriveMode | None:
        """The mode that it is in."""
        return self.drive.modes[self._mode - 1] if self._mode else None

    def start_at(self, command: float) -> None:
        """Start from where the actuator is."""
        self._level = min(max(command, self.drive.bounds[0]), self.drive.bounds[1])
        if self._active is not self:
            self._active.start_at(command)

    def _slewed(self, times: Array, target: Array, safe: Truths) -> Array:
        """No faster than the slew limit, except to the safe value."""
        start = times[0] if math.isnan(self._time) else self._time
        with np.errstate(invalid="ignore", over="ignore"):  # a misread time may be of any size
            most = (self.drive.slew or 0.0) * np.diff(times, prepend=start)
        most[safe] = math.inf
        self._time = float(times[-1])
        if np.all(np.abs(np.diff(target, prepend=self._level)) <= most):
            self._level = float(target[-1])
            return target
        out = np.empty(target.size)
        level = self._level
        for i, (goal, limit) in enumerate(zip(target.tolist(), most.tolist(), strict=True)):
            step = goal - level
            level = goal if abs(step) <= limit else level + math.copysign(limit, step)
            out[i] = level
        self._level = level
        return out
