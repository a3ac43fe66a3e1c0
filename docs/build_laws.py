"""Writes docs/laws.md and its pictures from the laws themselves: `python docs/build_laws.py`."""

from __future__ import annotations

import inspect
import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from matplotlib.axes import Axes

import jetruler as jr
from jetruler import Law
from jetruler.core.laws import HOMES
from jetruler.core.units import sign
from jetruler.plots.style import BLUE, GREY, JET, new_figure, plain, rendered

HERE = Path(__file__).parent


@dataclass(frozen=True)
class Entry:
    """A law as the page shows it: an example of it, the bench file's line, where to draw it,
    where to work it out, and what goes wrong with it."""

    law: Law
    bench: str
    drawn: tuple[float, float]
    worked: float
    mistakes: str


PAIR = (3.354016e-3, 2.569850e-4, 2.620131e-6, 6.383091e-8)

ENTRIES = [
    Entry(
        jr.Adc(12, 3.3),
        '{ law = "adc", bits = 12, vref = "3.3 V ± 1 %" }  # mostly left to [converter]',
        (0, 4095),
        1880,
        "1023 or 1024? The top count reads the reference if `count_at_vref` is 2ⁿ − 1 (the default "
        "here); datasheets that speak of an LSB of vref/2ⁿ mean 2ⁿ. The difference is one count at "
        "the top; mixing both in one project is the mistake. A source above vref reads as the top "
        "count: the flag `high_rail` says so.",
    ),
    Entry(
        jr.Counts(12),
        '{ law = "counts", bits = 12 }  # mostly left to [converter]',
        (0, 4095),
        1880,
        "Marks noted in counts, used on volts. A first law without a unit stands on counts.",
    ),
    Entry(
        jr.Line.through((198, 0), (3904, 100), unit="%"),
        '{ law = "line", marks = [[198, 0], [3904, 100]], unit = "%" }',
        (0, 4095),
        1880,
        "Marks at 0 and 4095 for a knob that never reaches them: 0 % and 100 % are then never "
        "shown. A reversed range without a clamp runs to −10 %. An offset truncated to an integer.",
    ),
    Entry(
        jr.Divider(4700, "lower", supply=3.3),
        '{ law = "divider", known = "4k7 ± 1 %", sensor = "lower" }',
        (0.05, 3.1),
        1.515,
        "The sensor taken for the other leg: temperature then falls when it should rise. A supply "
        "given although the divider is fed from the reference (leave `supply` out: it cancels). A "
        "known resistor far from the sensor's own value uses a fifth of the range. The input's own "
        "resistance forgotten beside a large sensor (`load`).",
    ),
    Entry(
        jr.Attenuator(33e3, 10e3),
        '{ law = "attenuator", upper = "33 kohm ± 1 %", lower = "10 kohm ± 1 %" }',
        (0, 3.3),
        2.79,
        "Upper and lower swapped. A ratio that brings the largest source above vref.",
    ),
    Entry(
        jr.Shunt(150),
        '{ law = "shunt", ohms = "150R ± 0.5 %" }',
        (0, 3.3),
        1.515,
        "20 mA · R above vref: 165 Ω is the most for 3.3 V, and leaves nothing to see a short with.",
    ),
    Entry(
        jr.Amplifier(-2, 1.65),
        '{ law = "amplifier", gain = -2, offset = "1.65 V" }',
        (0, 3.3),
        0.65,
        "Gain and offset of the stage taken for those of the way back: the sensor's volts are "
        "(U − offset) / gain. The sign of an inverting stage.",
    ),
    Entry(
        jr.Beta(100e3, 3950),
        '{ law = "beta", r0 = "100 kohm ± 3 %", beta = 3950, t0 = "25 degC" }',
        (300, 300e3),
        3989,
        "t0 in °C where kelvin are wanted (here it says its unit). The Beta of another range: "
        "B25/50 and B25/85 differ by one or two percent. log10 for ln.",
    ),
    Entry(
        jr.SteinhartHart(6.7e-4, 2.2e-4, 1e-7),
        '{ law = "steinhart-hart", a = 6.7e-4, b = 2.2e-4, c = 1.0e-7 }',
        (300, 300e3),
        3989,
        "Coefficients for kilohms used with ohms. A coefficient rounded to three digits: a degree "
        "is soon lost. The squared term of the extended form put where the cubed one belongs.",
    ),
    Entry(
        jr.SteinhartHartExtended(10e3, PAIR),
        '{ law = "steinhart-hart-extended", r25 = "10 kohm", '
        "to_kelvin = [3.354016e-3, 2.569850e-4, 2.620131e-6, 6.383091e-8] }",
        (500, 300e3),
        3605,
        "The two sets of a datasheet swapped. They disagree by some hundredths of a degree: "
        "`disagreement()` says how much and where.",
    ),
    Entry(
        jr.Platinum(),
        '{ law = "platinum", r0 = 100 }',
        (18.6, 390),
        138.51,
        "The straight line 0.385 Ω/°C: half a degree off at 100 °C, six at 300 °C. 100 Ω and 1000 Ω "
        "parts mixed up. The wires' own ohms.",
    ),
    Entry(
        jr.Table(((0, 0), (1.2, 20), (2.0, 60), (3.0, 80)), "smooth", takes="V", unit="cm"),
        '{ law = "table", points = [[0, 0], [1.2, 20], [2, 60], [3, 80]], method = "smooth", '
        'takes = "V", unit = "cm" }  # or points = "file.csv"',
        (0, 3.0),
        1.6,
        "Values beyond the last point believed: outside the table there is no value unless `ends` "
        'says "extend" or "hold". An ordinary cubic that overshoots between points; this one does not.',
    ),
    Entry(
        jr.Polynomial((3, -2, 0.8), domain=(1.3, 4)),
        '{ law = "polynomial", coefficients = [3, -2, 0.8], domain = [1.3, 4] }',
        (1.3, 4),
        2,
        "The highest coefficient first instead of the constant. A high degree outside the points it "
        "was fitted to: give the `domain`.",
    ),
    Entry(
        jr.PowerLaw(27.7, -1.2, 0.1, takes="V", unit="cm"),
        '{ law = "power", a = 27.7, b = -1.2, x0 = "0.1 V", unit = "cm" }',
        (0.4, 3),
        1.5,
        "Used below the volts where a distance sensor's curve turns back: two distances give the "
        "same volts, and no law can tell them apart.",
    ),
    Entry(
        jr.Formula(
            "1 / (a + b*log(x))", a=1.1e-3, b=2.4e-4, takes="ohm", unit="K", domain=(100, 1e6)
        ),
        '{ law = "formula", expression = "1 / (a + b*log(x))", a = 1.1e-3, b = 2.4e-4, '
        'takes = "ohm", unit = "K", domain = [100, 1e6] }',
        (500, 100e3),
        3989,
        "`log` is the natural logarithm; log10 is the other. A name that is not given a number.",
    ),
    Entry(
        jr.Clamp(0, 100),
        '{ law = "clamp", low = 0, high = 100 }',
        (-30, 130),
        103,
        "A clamp that hides a broken wire: read the flags `below` and `above`. A clamp before a law "
        "that moves the range again.",
    ),
    Entry(
        jr.Limits(0, 100),
        '{ law = "limits", low = 0, high = 100 }  # a channel\'s `limits` stand at its end',
        (-30, 130),
        103,
        "Taken for a clamp: limits flag and change nothing.",
    ),
    Entry(
        jr.Expect(3.6e-3, 21e-3, unit="A"),
        '{ law = "expect", low = "3.6 mA", high = "21 mA" }',
        (0, 24e-3),
        3.2e-3,
        "Put behind the line, in pascal: it belongs where the fault shows, on the current.",
    ),
    Entry(
        jr.DeadBand(1900, 2100, 2048),
        '{ law = "dead-band", low = 1900, high = 2100, rest = 2048 }',
        (1500, 2600),
        2000,
        "A band narrower than the noise. The jump at its edge: beyond the band the value is kept as "
        "it is.",
    ),
    Entry(
        jr.Whole(),
        '{ law = "whole", rounding = "nearest" }',
        (-3, 3),
        1.6,
        "An integer conversion in C rounds toward zero: full scale is then reached by one count "
        "only. Ties: 2.5 → 3 and −2.5 → −3.",
    ),
    Entry(
        jr.Magnitude(),
        '{ law = "magnitude" }',
        (-16, 16),
        -7,
        "The sign is gone for good: the way back knows the positive branch only.",
    ),
    Entry(
        jr.PassThrough("bar"),
        '{ law = "pass-through", unit = "bar" }',
        (0, 10),
        1.5,
        "A unit named here is believed, not converted: `to` converts.",
    ),
    Entry(
        jr.Zones((15, 60), ("full", "filling", "empty"), takes="%"),
        '{ law = "zones", edges = [15, 60], values = ["full", "filling", "empty"] }',
        (0, 100),
        50,
        "Bands written as pairs leave gaps (33 to 66, 67 to 100: where is 66.5?). Edges cannot. Zones "
        "narrower than the noise flicker.",
    ),
    Entry(
        jr.To("degF", "degC"),
        '{ law = "to", unit = "degF" }',
        (-20, 120),
        25,
        "A difference converted as if it were a temperature: 1 °C of change is 1.8 °F, not 33.8.",
    ),
]


def drawn(ax: Axes, entry: Entry) -> Axes:
    """The small picture of a law."""
    low, high = entry.drawn
    law = entry.law
    logarithmic = low > 0 and high > 100 * low
    x = np.geomspace(low, high, 600) if logarithmic else np.linspace(low, high, 600)
    plain(ax)
    ax.plot(x, law(x), color=BLUE, linewidth=2)
    ax.plot([entry.worked], [law(entry.worked)], "o", color=JET, markersize=5)
    if logarithmic:
        ax.set_xscale("log")
    ax.set_xlabel(sign(law.takes) or "x", color=GREY)
    ax.set_ylabel(sign(law.gives or law.takes) or "y", color=GREY)
    return ax


def page() -> str:
    """The text of docs/laws.md."""
    parts = [
        "# The laws\n",
        "Made by `python docs/build_laws.py` from the laws themselves. Every law has a forward "
        "direction, an inverse, a slope (its derivative) and a worked line in both directions; not a "
        "number in gives not a number out.\n",
        "A law of your own: a subclass of `jetruler.Law` in your package, named in the entry-point "
        "group `jetruler.laws`; [examples/own_law](../examples/own_law) is a whole one.\n",
    ]
    for entry in ENTRIES:
        law = entry.law
        units = f"{sign(law.takes) or 'any unit'} → {sign(law.gives) or 'the same unit'}"
        value = law(entry.worked)
        back = law.inverse_formula(value) if value == value else "no way back from no value"
        parts += [
            f"\n## `{law.name}` · `{type(law).__name__}` · {units}\n",
            f"![{law.name}](laws/{law.name}.svg)\n",
            f"```text\n{inspect.getdoc(type(law))}\n```\n",
            f"In a bench file: `{entry.bench}`\n",
            f"Worked: `{law.formula(entry.worked)}`  \nand back: `{back}`\n",
            f"Typical mistakes: {entry.mistakes}\n",
        ]
    return "\n".join(parts)


def main() -> None:
    """Write the page and its pictures."""
    missing = set(HOMES) - {entry.law.name for entry in ENTRIES}
    if missing:
        sys.exit(f"docs/build_laws.py has no entry for: {', '.join(sorted(missing))}")
    (HERE / "laws").mkdir(exist_ok=True)
    for entry in ENTRIES:
        figure = new_figure(4.2, 2.6)
        drawn(figure.add_subplot(), entry)
        (HERE / "laws" / f"{entry.law.name}.svg").write_bytes(rendered(figure, "svg"))
    (HERE / "laws.md").write_text(page(), encoding="utf-8")


if __name__ == "__main__":
    main()
