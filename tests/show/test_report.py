"""Reports and circuits: what they say, what they escape, and what they refuse."""

from __future__ import annotations

import re
import shutil
import subprocess
from datetime import date
from hashlib import sha256
from html.parser import HTMLParser
from pathlib import Path

import pytest

import jetruler as jr
from jetruler.core.ruler.quantity import Toleranced
from jetruler.core.ruler.units import symbol
from jetruler.show.content import md, tex
from jetruler.show.schematic import circuit_of, prefixed, schematic, with_tolerance
from tests.conftest import Cli
from tests.helpers.sizes import soak


class Page(HTMLParser):
    """Counts tags, and sees that they close."""

    VOID = ("meta", "br", "link")

    def __init__(self, text: str) -> None:
        super().__init__()
        self.open: list[str] = []
        self.seen: dict[str, int] = {}
        self.links: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.seen[tag] = self.seen.get(tag, 0) + 1
        self.links += [value or "" for name, value in attrs if name in ("src", "href")]
        if tag not in self.VOID:
            self.open.append(tag)

    def handle_startendtag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.seen[tag] = self.seen.get(tag, 0) + 1

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag


@soak
def test_the_report_of_the_demo_holds_everything_itself(cli: Cli, home: Path) -> None:
    args = ("bean", "damper", "--log", "roast.csv", "--marks", "bean=bath.csv", "--at", "1880")
    done = cli("report", *args, "--with", "r0 = 100 kohm ± 1 %")
    assert (done.returncode, done.stdout) == (0, "report.html\n")
    text = (home / "report.html").read_text("utf-8")
    page = Page(text)
    assert not page.open
    assert all(link.startswith("#") for link in page.links)  # nothing from elsewhere
    assert text.count("<script>") == 2  # of the sliders: what they do, and where they begin
    assert "<script " not in text
    # Of each channel, budgets, calibration, log, the ruler of the drive on the damper.
    assert page.seen["svg"] == 2 * 3 + 2 + 1 + 1 + 1
    for said in (
        "120.795 °C",  # the worked solution
        "(120.8 ± 2.0) °C at 95 %",  # the budget
        "22 % less",  # the what-if
        "beta, fitted again",  # the calibration
        "A sample every 0.2 s (5 Hz)",  # the log
        "is on its high rail",  # a finding
        "4.7 kΩ ± 1 %",  # a parameter
        "(198, 0), (3904, 100)",
        f"Jet Ruler {jr.__version__}",
        f"bench.toml (SHA-256 {sha256((home / 'bench.toml').read_bytes()).hexdigest()[:16]}…)",
    ):
        assert said in text, said
    identifiers = re.findall(r'\bid="([^"]+)"', text)
    assert len(identifiers) == len(set(identifiers))
    again = cli("report", *args, "--with", "r0 = 100 kohm ± 1 %", "-o", "again.html")
    assert again.returncode == 0
    assert (home / "again.html").read_bytes() == (home / "report.html").read_bytes()
    assert cli("report", "damper", "--date", "-o", "dated.md").returncode == 0
    assert date.today().isoformat() in (home / "dated.md").read_text("utf-8")


@soak
def test_a_comparison_is_what_compare_says(cli: Cli, home: Path) -> None:
    both = ("bean", "bean2", "--log", "rest.csv")
    done = cli("report", *both, "--compare", "bean=bean2", "-o", "c.md")
    assert done.returncode == 0, done.stderr
    said = cli("compare", "bean", "bean2", "--log", "rest.csv").stdout.splitlines()
    text = (home / "c.md").read_text("utf-8")
    assert all(line in text for line in said if not line.startswith("the correction"))
    assert (home / "c-figures/bean-bean2.svg").exists()


@soak
def test_everything_is_escaped(tmp_path: Path) -> None:
    knob = jr.Channel(
        "knob", jr.Counts(8) >> jr.Line(1, unit="%"), 1, about='<b>5 % & "more"</b> | $x_1$'
    )
    bench = jr.Bench("A <i>bench</i> & 100 %", {"knob": knob})
    for form in ("html", "md", "tex"):
        jr.report(bench, tmp_path / f"r.{form}", at=[10])
    html = (tmp_path / "r.html").read_text()
    assert "<b>" not in re.sub(r"<svg.*?</svg>", "", html, flags=re.DOTALL)
    assert "&lt;b&gt;5 %" in html
    assert not Page(html).open
    assert r"\$x\_1\$" in (tmp_path / "r.tex").read_text()
    assert r"\<b\>5 %" in (tmp_path / "r.md").read_text()


@pytest.mark.parametrize(
    ("text", "latex", "markdown"),
    [
        ("4.7 kΩ ± 1 %", r"4.7 k\ensuremath{\Omega} \ensuremath{\pm} 1 \%", "4.7 kΩ ± 1 %"),
        ("a_b & c\\d", r"a\_b \& c\textbackslash{}d", r"a\_b & c\\d"),
        ("x|y", "x|y", r"x\|y"),
    ],
)
def test_escapes(text: str, latex: str, markdown: str) -> None:
    assert tex(text) == latex
    assert md(text) == markdown


@soak
def test_pictures_stand_beside_markdown_and_latex(
    home: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(home)
    bench = jr.load_bench("bench.toml")
    for form, kind in (("md", "svg"), ("tex", "png")):
        made = jr.report(bench, f"r.{form}", channels=["damper"], at=[1880])
        text = made[0].read_text("utf-8")
        named = re.findall(r"r-figures/[\w-]+\.\w+", text)
        assert named == [str(path) for path in made[1:]]
        assert all(path.suffix == f".{kind}" and path.stat().st_size for path in made[1:])


@pytest.mark.skipif(shutil.which("pdflatex") is None, reason="needs LaTeX")
def test_latex_takes_it(home: Path) -> None:
    jr.report(jr.load_bench(home / "bench.toml"), home / "r.tex", channels=["bean"])
    head = r"\documentclass{article}\usepackage{graphicx,booktabs}"
    whole = head + r"\begin{document}\input{r}\end{document}"
    (home / "whole.tex").write_text(whole)
    subprocess.run(["pdflatex", "-halt-on-error", "whole.tex"], cwd=home, check=True)


REFUSED = [
    (("report", "ben"), "expected a channel, found 'ben': did you mean 'bean'?"),
    (("report", "--log", "none.csv"), "none.csv: expected a log, found no such file"),
    (("report", "bean", "--at", "9999"), "expected a raw value of bean, from 0 to 4095"),
    (("report", "--with", "zz=3"), "expected a parameter of bean"),
    (("report", "--with", "r0=blue"), "expected a quantity, as in"),
    (("report", "-o", "r.pdf"), "expected .html, .md or .tex, found another ending"),
    (("report", "--compare", "bean"), "--compare: expected A=B"),
    (("report", "--compare", "bean=bean2"), "expected two channels and a log"),
    (("report", "--marks", "bath.csv"), "--marks: expected NAME=FILE"),
    (("report", "-o", "bench.toml"), "bench.toml"),
    (("draw", "circuit", "bean", "--at", "9999"), "expected a count of bean, 0 to 4095"),
]


@pytest.mark.parametrize(("args", "says"), REFUSED)
def test_one_sentence_and_nothing_written(
    cli: Cli, home: Path, args: tuple[str, ...], says: str
) -> None:
    before = {path: path.read_bytes() for path in home.iterdir() if path.is_file()}
    done = cli(*args)
    assert done.returncode == 2
    assert says in done.stderr
    assert done.stderr.count("\n") == 1
    assert {path: path.read_bytes() for path in home.iterdir() if path.is_file()} == before


def parts(channel: jr.Channel, at: float | None = None) -> list[tuple[str, str, str]]:
    return [(part.kind, part.place, part.label) for part in circuit_of(channel, at).parts]


ADC = jr.Adc(12, jr.Toleranced(3.3, 0.033))
CIRCUITS = {
    "lower leg": (
        ADC >> jr.Divider(4700.0, sensor="lower") >> jr.Beta(1e5, 3950.0),
        [
            ("supply", "", "reference 3.3 V ± 1 %"),
            ("resistor", "upper", "4.7 kΩ"),
            ("thermistor", "lower", "NTC 100 kΩ\nbeta 3950 K, t0 298.15 K"),
        ],
    ),
    "upper leg, loaded": (
        ADC >> jr.Divider(4700.0, sensor="upper", supply=5.0, load=1e6) >> jr.Platinum(),
        [
            ("supply", "", "supply 5 V"),
            ("platinum", "upper", "platinum 100 Ω"),
            ("resistor", "lower", "4.7 kΩ"),
            ("resistor", "load", "input 1 MΩ"),
        ],
    ),
    "behind an attenuator": (
        ADC >> jr.Attenuator(33e3, 10e3),
        [
            ("source", "", "sensor"),
            ("resistor", "series", "33 kΩ"),
            ("resistor", "lower", "10 kΩ"),
        ],
    ),
    "a loop": (
        ADC >> jr.Shunt(150.0),
        [("loop", "loop", "current loop"), ("resistor", "lower", "150 Ω")],
    ),
    "amplified": (
        ADC >> jr.Amplifier(10.0, 0.1) >> jr.Line(2),
        [("source", "", "sensor"), ("amplifier", "series", "× 10, 0.1 V at 0 V")],
    ),
}


@pytest.mark.parametrize(("ruler", "listed"), CIRCUITS.values(), ids=list(CIRCUITS))
def test_a_circuit_has_the_parts_of_its_laws(
    ruler: jr.Ruler, listed: list[tuple[str, str, str]]
) -> None:
    channel = jr.Channel("c", ruler, 1)
    found = parts(channel)
    assert found[:-1] == listed
    assert found[-1] == ("converter", "pin", "converter, 12 bits\nreference 3.3 V ± 1 %")
    drawn = [type(element).__name__ for element in schematic(circuit_of(channel)).elements]
    symbols = {
        "resistor": "ResistorIEC",
        "thermistor": "Thermistor",
        "platinum": "ResistorVarIEC",
        "supply": "Vdd",
        "source": "SourceV",
        "loop": "SourceI",
        "amplifier": "Buf",
    }
    wanted = [symbols[kind] for kind, _, _ in listed]
    assert [name for name in drawn if name in symbols.values()] == wanted
    assert drawn.count("Ic") == 1


def test_a_swapped_leg_is_drawn_the_other_way() -> None:
    lower = parts(jr.Channel("c", CIRCUITS["lower leg"][0], 1))
    upper = parts(
        jr.Channel("c", ADC >> jr.Divider(4700.0, sensor="upper") >> jr.Beta(1e5, 3950.0), 1)
    )
    assert [kind for kind, *_ in lower] == ["supply", "resistor", "thermistor", "converter"]
    assert [kind for kind, *_ in upper] == ["supply", "thermistor", "resistor", "converter"]


def test_voltages_and_currents_are_kirchhoffs() -> None:
    """By hand: 1880 of 4095 of 3.3 V over a thermistor under 4.7 kΩ."""
    tap = 1880 / 4095 * 3.3
    amps = (3.3 - tap) / 4700
    circuit = circuit_of(jr.Channel("c", CIRCUITS["lower leg"][0], 1), 1880)
    fixed, sensor = circuit.parts[1], circuit.parts[2]
    assert fixed.now == f"{3.3 - tap:.4g} V, {amps * 1e6:.4g} µA"
    assert sensor.now == f"{tap / amps / 1e3:.4g} kΩ, {tap:.4g} V"


@pytest.mark.parametrize(
    ("value", "unit", "text"),
    [
        (4700.0, "Ω", "4.7 kΩ"),
        (1e6, "Ω", "1 MΩ"),
        (0.00038, "A", "380 µA"),
        (999.9999999999, "Ω", "1 kΩ"),
        (12000.0, "V", "12000 V"),
        (3950.0, "K", "3950 K"),
        (0.0, "A", "0 A"),
    ],
)
def test_prefixes(value: float, unit: str, text: str) -> None:
    assert prefixed(value, unit) == text
    assert with_tolerance(Toleranced(4700, 47), "Ω") == "4.7 kΩ ± 1 %"


@pytest.mark.parametrize(
    ("unit", "kind", "symbols"),
    [
        ("cm", "distance", ["Line", "Arrow", "Ic"]),
        ("mA", "loop", ["SourceI"]),
        ("V", "source", ["SourceV"]),
        ("Hz", "pulses", ["SourceSquare"]),
        ("kohm", "resistive", ["ResistorVarIEC"]),
        ("%", "quantity", ["Source"]),
        ("g", "quantity", ["Source"]),
    ],
)
def test_an_input_is_drawn_as_what_it_measures(unit: str, kind: str, symbols: list[str]) -> None:
    channel = jr.Channel("silo", jr.Input(unit, range=(2, 250)) >> jr.Line(0.4, 0, unit="bar"), 1)
    own = symbol(unit)
    assert parts(channel) == [
        (kind, "", "sensor\n(bar)"),
        ("box", "pin", f"input in {own}\n2 to 250 {own}"),
    ]
    drawn = [type(element).__name__ for element in schematic(circuit_of(channel, 12)).elements]
    assert drawn[: len(symbols)] == symbols
    assert drawn.count("Ic") == 1 + symbols.count("Ic")
