"""`jetruler.plots`: every picture on new Axes and on given ones, and nobody's settings changed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import matplotlib as mpl
import numpy as np
import pytest
from matplotlib.axes import Axes
from matplotlib.figure import Figure

import jetruler

jr: Any = jetruler
DEMO = Path(jetruler.__file__).parent / "demo"
BEAN = jr.load_bench(DEMO / "bench.toml")["bean"]
RULER = jr.Counts(12) >> jr.Line(0.5)


def fitted() -> Any:
    return jr.calibrate(BEAN, jr.read_marks(DEMO / "bath.csv"))


PICTURES: dict[str, Callable[[Any], Axes]] = {
    "ruler": lambda ax: jr.plots.ruler(BEAN, at=1880, ax=ax),
    "ruler of a ruler": lambda ax: jr.plots.ruler(RULER, ax=ax),
    "ruler of a law": lambda ax: jr.plots.ruler(jr.Adc(12, 3.3), ax=ax),
    "curve": lambda ax: jr.plots.curve(RULER, ax=ax),
    "slope": lambda ax: jr.plots.slope(BEAN, ax=ax),
    "stages": lambda ax: jr.plots.stages(BEAN, at=1880, ax=ax),
    "calibration": lambda ax: jr.plots.calibration(fitted(), ax=ax),
    "residuals": lambda ax: jr.plots.residuals(fitted(), ax=ax),
    "comparison": lambda ax: jr.plots.comparison(
        jr.compare(np.arange(50.0) + 0.3, np.arange(50.0)), ax=ax
    ),
    "shares": lambda ax: jr.plots.shares(jr.budget(BEAN, 1880), ax=ax),
    "band": lambda ax: jr.plots.band(BEAN, at=[400, 1880], ax=ax),
    "sources": lambda ax: jr.plots.sources(BEAN, ax=ax),
    "histogram": lambda ax: jr.plots.histogram(jr.survey(np.arange(99), bits=12), ax=ax),
    "circuit": lambda ax: jr.plots.circuit(BEAN, at=1880, ax=ax),
    "draws": lambda ax: jr.plots.draws(jr.simulate(BEAN, 1880, draws=1000), ax=ax),
    "a channel's own": lambda ax: BEAN.plot(ax=ax),
    "a ruler's own": lambda ax: RULER.plot(ax=ax),
}


@pytest.mark.parametrize("drawn", PICTURES.values(), ids=PICTURES)
def test_a_picture_on_given_axes(drawn: Callable[[Any], Axes]) -> None:
    before = dict(mpl.rcParams)
    ax = Figure().add_subplot()
    assert drawn(ax) is ax
    assert ax.get_children()
    assert dict(mpl.rcParams) == before


def test_without_axes_there_are_new_ones() -> None:
    mpl.use("Agg")
    import matplotlib.pyplot as plt

    first, second = BEAN.plot(), jr.plots.ruler(RULER)
    assert isinstance(first, Axes)
    assert first.figure is not second.figure
    plt.close("all")


def test_only_what_is_public_is_shown() -> None:
    assert set(jr.plots.__all__) == {name.split()[0] for name in PICTURES} - {"a"}
    assert set(dir(jr)) == set(jr.__all__)
