"""A law that ends the process: in a module of its own, which is quick to load in a worker."""

import os
import signal
from dataclasses import dataclass

import numpy as np

from jetruler import PassThrough
from jetruler.core.numerics import Array


@dataclass(frozen=True)
class Deadly(PassThrough):
    """Ends the process that computes a 666 with it, as running out of memory would."""

    def forward(self, x: Array) -> Array:
        if np.any(np.asarray(x) == 666):
            os.kill(os.getpid(), signal.SIGKILL)
        return x
