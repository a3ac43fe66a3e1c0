"""Pictures on axes of one's own: several curves, styles, and what cannot be drawn on."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import matplotlib as mpl
import matplotlib.pyplot as plt
import pytest
from matplotlib.colors import to_rgb
from matplotlib.figure import Figure

import jetruler as jr
from jetruler import plots
from jetruler.show.style import AMBER, JET, same_color
from tests.helpers.sizes import few

OHMS = jr.Adc(12, 3.3) >> jr.Divider(4700)
BEAN = jr.Channel("bean", OHMS >> jr.Beta(1e5, 3950), "a", limits=(0, 260), about="in the beans")
AIR = jr.Channel("air", OHMS >> jr.Beta(1e4, 3435), "b")
RAIL = jr.Channel("rail", jr.Adc(12, 3.3) >> jr.Attenuator(33e3, 10e3), "c", limits=(10, 13))

NO_AXES: dict[str, Callable[[], Any]] = {
    "an array": lambda: Figure().subplots(1, 2),
    "polar": lambda: Figure().add_subplot(projection="polar"),
    "3d": lambda: Figure().add_subplot(projection="3d"),
    "a figure": Figure,
    "a text": lambda: "ax",
}


@pytest.mark.parametrize("draw", [plots.ruler, plots.curve, plots.stages, plots.circuit])
@pytest.mark.parametrize("made", NO_AXES.values(), ids=NO_AXES)
def test_what_are_no_axes_is_answered_in_a_sentence(made: Callable[[], Any], draw: Any) -> None:
    with pytest.raises(jr.errors.ParameterError, match="ax: expected one Matplotlib Axes"):
        draw(BEAN, ax=made())


def test_curves_of_one_unit_share_their_axes() -> None:
    ax = Figure().add_subplot()
    assert plots.curve(BEAN, ax=ax) is ax
    assert (ax.get_xlabel(), ax.get_ylabel()) == ("count", "bean (°C)")
    assert ax.get_title("left") == "in the beans"
    assert plots.curve(AIR, at=2000, ax=ax) is ax
    legend = ax.get_legend()
    assert legend is not None
    assert [text.get_text() for text in legend.get_texts()] == ["bean", "air"]
    assert (ax.get_ylabel(), ax.get_title("left")) == ("°C", "")
    first, second = [line for line in ax.get_lines() if line.get_label() in ("bean", "air")]
    assert first.get_color() != second.get_color()


def test_a_curve_of_another_unit_has_its_own_axis() -> None:
    ax = Figure().add_subplot()
    plots.curve(BEAN, ax=ax)
    other = plots.curve(RAIL, ax=ax)
    assert other is not ax
    assert other.get_ylabel() == "V"
    assert ax.get_ylabel() == "bean (°C)"
    assert other.get_xlim() == ax.get_xlim()


DRAWN: dict[str, Callable[[Any], Any]] = {
    "ruler": lambda ax: plots.ruler(BEAN, at=1880, ax=ax),
    "curve": lambda ax: plots.curve(BEAN, at=1880, ax=ax),
    "slope": lambda ax: plots.slope(BEAN, ax=ax),
    "stages": lambda ax: plots.stages(BEAN, at=1880, ax=ax),
    "band": lambda ax: plots.band(BEAN, ax=ax),
}


def light(color: Any) -> float:
    red, green, blue = to_rgb(color)
    return 0.299 * red + 0.587 * green + 0.114 * blue


@few
@pytest.mark.parametrize("style", ["default", "dark_background", "ggplot"])
@pytest.mark.parametrize("draw", DRAWN.values(), ids=DRAWN)
def test_every_style_can_be_read(draw: Callable[[Any], Any], style: str) -> None:
    """No letter is nearly as light as its ground."""
    with plt.style.context(style):
        figure = Figure()
        ax = draw(figure.add_subplot())
        ground = mpl.rcParams["figure.facecolor"]
        plate = [p for p in ax.patches if same_color(p.get_facecolor(), JET)]
        for text in [*ax.texts, ax.title, ax.xaxis.label, ax.yaxis.label, *ax.get_xticklabels()]:
            box = text.get_bbox_patch()
            if box is not None and same_color(box.get_facecolor(), AMBER):
                continue
            if text in ax.texts and plate:
                continue  # letters on the plate
            assert abs(light(text.get_color()) - light(ground)) > 0.3, text
