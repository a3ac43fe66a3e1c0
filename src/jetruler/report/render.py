"""Writing a report: the same blocks as HTML, Markdown or LaTeX; the same input, the same bytes."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from jinja2 import Environment, PackageLoader, StrictUndefined

from ..plots.style import rendered
from .blocks import Block, Picture

Form = Literal["html", "md", "tex"]
FORMS: tuple[Form, ...] = ("html", "md", "tex")
#: What the pictures beside each form are.
PICTURES: Mapping[Form, str] = {"html": "svg", "md": "svg", "tex": "png"}

#: Signs that mean something to LaTeX, and those that an old one does not have.
_TEX = {
    **{sign: f"\\{sign}" for sign in "&%$#_{}"},
    "\\": r"\textbackslash{}",
    "~": r"\textasciitilde{}",
    "^": r"\textasciicircum{}",
    "Ω": r"\ensuremath{\Omega}",
    "°": r"\ensuremath{^\circ}",
    "±": r"\ensuremath{\pm}",
    "−": r"\ensuremath{-}",
    "·": r"\ensuremath{\cdot}",
    "µ": r"\ensuremath{\mu}",
    "×": r"\ensuremath{\times}",
    "≤": r"\ensuremath{\leq}",
    "≥": r"\ensuremath{\geq}",
    "→": r"\ensuremath{\rightarrow}",
    "√": r"\ensuremath{\surd}",
    "…": r"\ldots{}",
    "∞": r"\ensuremath{\infty}",
    "–": "--",
    "²": r"\ensuremath{^2}",
    "³": r"\ensuremath{^3}",
    "₀": r"\ensuremath{_0}",
    "₁": r"\ensuremath{_1}",
    "₂": r"\ensuremath{_2}",
    "₃": r"\ensuremath{_3}",
    "⁻": r"\ensuremath{^-}",
    "¹": r"\ensuremath{^1}",
    "α": r"\ensuremath{\alpha}",
    "β": r"\ensuremath{\beta}",
    "Δ": r"\ensuremath{\Delta}",
}


def tex(text: str) -> str:
    """Text for LaTeX."""
    return "".join(_TEX.get(sign, sign) for sign in text)


def md(text: str) -> str:
    """Text for Markdown, also within a table."""
    return re.sub(r"([\\`*_{}\[\]<>#|])", r"\\\1", text).replace("\n", " ")


def _environment(form: Form) -> Environment:
    loader = PackageLoader("jetruler.report", "templates")
    common: dict[str, Any] = {"undefined": StrictUndefined, "keep_trailing_newline": True}
    if form == "html":
        return Environment(loader=loader, autoescape=True, **common)
    if form == "tex":
        common |= {"block_start_string": "<%", "block_end_string": "%>"}
        common |= {"variable_start_string": "<<", "variable_end_string": ">>"}
        common |= {"comment_start_string": "<#", "comment_end_string": "#>"}
    found = Environment(
        loader=loader, autoescape=False, trim_blocks=True, lstrip_blocks=True, **common
    )
    found.filters |= {"md": md, "tex": tex}
    return found


def written(
    title: str, blocks: Sequence[Block], form: Form, folder: str
) -> tuple[str, dict[str, bytes]]:
    """Return the text of a report, and the files that stand beside it, by name. folder: where
    those are, as the text names it."""
    kind = PICTURES[form]
    files: dict[str, bytes] = {}
    pictures: dict[str, str] = {}
    for block in blocks:
        if isinstance(block, Picture):
            data = rendered(block.figure, kind)
            if form == "html":
                pictures[block.name] = _inline(data.decode(), block.name)
            else:
                files[f"{block.name}.{kind}"] = data
                pictures[block.name] = f"{folder}/{block.name}.{kind}"
    template = _environment(form).get_template(f"report.{form}")
    text = template.render(title=title, blocks=blocks, pictures=pictures)
    if form != "html":
        text = re.sub(r"\n{3,}", "\n\n", text)
    return text, files


def _inline(svg: str, name: str) -> str:
    """An SVG that can stand beside others in one page: without its head, its names its own."""
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r'\bid="([^"]+)"', rf'id="{name}-\1"', svg)
    svg = re.sub(r'(xlink:href|href)="#([^"]+)"', rf'\1="#{name}-\2"', svg)
    return re.sub(r"url\(#([^)]+)\)", rf"url(#{name}-\1)", svg)
