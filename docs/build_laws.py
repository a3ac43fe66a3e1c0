"""Writes docs/laws.md and its pictures from the laws and laws.toml: `python docs/build_laws.py`."""

from __future__ import annotations

import sys
import tomllib
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure

from jetruler import Adc, Channel, Law, Ruler
from jetruler.benchfile.models import build_law
from jetruler.core.laws import LAWS
from jetruler.core.ruler.units import symbol
from jetruler.show.schematic import draw_circuit
from jetruler.show.style import BLUE, GREY, JET, new_figure, plain, rendered

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))
from docstrings import Docstring  # noqa: E402 - it stands beside this file

HEAD = """# The laws

Made by `python docs/build_laws.py` from the laws themselves. Every law has a forward direction, an inverse, a slope
(its derivative) and a worked line in both directions. NaN in gives NaN out.

You can add a law: write a subclass of `jetruler.Law` in your package and name it in the entry-point group `jetruler.laws`;
`examples/own_law` is a complete package.
"""

PART = """
## `{law.name}`: {called}

`jr.{kind}` · {takes} → {gives}

![{law.name}](laws/{law.name}.svg)
{circuit}
{doc}

In a bench file: `{bench}`

Worked: `{there}`{break_}
and the inverse: `{back}`

Typical mistakes: {mistakes}
"""


#: The laws that are a circuit: their schematic stands beside their curve.
CIRCUITS = ("divider", "attenuator", "shunt", "amplifier", "bridge", "load-cell")
CIRCUIT = "\n![The circuit of {name}](laws/{name}-circuit.svg)\n"


def schematic(law: Law) -> Figure:
    """The circuit of a law, between a sensor and a converter of 12 bits at 3.3 V."""
    figure = new_figure(8.0, 4.2)
    channel = Channel(law.name, Ruler.of(Adc(12, 3.3), law), 1)
    draw_circuit(figure.add_subplot(), channel).set_title("")
    return figure


def entries() -> list[tuple[Law, dict[str, Any]]]:
    """Each law as its line in a bench file makes it, with what the page shows of it."""
    found = tomllib.loads((HERE / "laws.toml").read_text("utf-8"))["entry"]
    return [(build_law(tomllib.loads(f"law = {e['bench']}")["law"]), e) for e in found]


def described(kind: type[Law]) -> str:
    """Its docstring: the text, a table of the parameters, the notes."""
    doc = Docstring.of(kind)
    rows = [
        f"| {', '.join(f'`{name}`' for name in names.split(', '))} "
        f"| {form.replace('|', 'or')} | {text.replace('|', '')} |"
        for names, form, text in doc.parameters
    ]
    table = "\n".join(["| parameter | type | meaning |", "|---|---|---|", *rows]) if rows else ""
    return "\n\n".join(part for part in (doc.summary, table, doc.notes) if part)


def drawn(ax: Axes, law: Law, low: float, high: float, worked: float) -> Axes:
    """The small picture of a law."""
    logarithmic = low > 0 and high > 100 * low
    x = np.geomspace(low, high, 600) if logarithmic else np.linspace(low, high, 600)
    plain(ax)
    ax.plot(x, law(x), color=BLUE, linewidth=2)
    ax.plot([worked], [law(worked)], "o", color=JET, markersize=5)
    if logarithmic:
        ax.set_xscale("log")
    ax.set_xlabel(symbol(law.takes) or "x", color=GREY)
    ax.set_ylabel(symbol(law.gives or law.takes) or "y", color=GREY)
    return ax


def page() -> str:
    """The text of docs/laws.md."""
    parts = [HEAD]
    for law, entry in entries():
        value = law(entry["worked"])
        parts.append(
            PART.format(
                law=law,
                circuit=CIRCUIT.format(name=law.name) if law.name in CIRCUITS else "",
                kind=type(law).__name__,
                called=entry["called"],
                takes=symbol(law.takes) or "any unit",
                gives=symbol(law.gives) or "the same unit",
                doc=described(type(law)),
                bench=entry["bench"],
                there=law.formula(entry["worked"]),
                break_="  ",
                back=law.inverse_formula(value) if value == value else "no inverse of no value",
                mistakes=entry["mistakes"].strip(),
            )
        )
    return "".join(parts)


def main() -> None:
    """Write the page and its pictures."""
    missing = set(LAWS) - {law.name for law, _ in entries()}
    if missing:
        sys.exit(f"docs/laws.toml has no entry for: {', '.join(sorted(missing))}")
    (HERE / "laws").mkdir(exist_ok=True)
    for law, entry in entries():
        figure = new_figure(4.2, 2.6)
        low, high = entry["drawn"]
        drawn(figure.add_subplot(), law, low, high, entry["worked"])
        (HERE / "laws" / f"{law.name}.svg").write_bytes(rendered(figure, "svg"))
        if law.name in CIRCUITS:
            picture = HERE / "laws" / f"{law.name}-circuit.svg"
            picture.write_bytes(rendered(schematic(law), "svg"))
    (HERE / "laws.md").write_text(page(), encoding="utf-8")


if __name__ == "__main__":
    main()
