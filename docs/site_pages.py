"""Pages of the site that are made from the product: the reference, and the command line.

MkDocs calls `on_config` and `on_files`; nothing is written into the folder of the guides.
"""

from __future__ import annotations

import dataclasses
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

import jetruler
from jetruler.cli import cli
from jetruler.core.laws import LAWS

LAWS_TOML = Path(__file__).with_name("laws.toml")
STUB = Path(jetruler.__file__).with_suffix(".pyi")
#: Groups of the public names: a comment of the stub begins one.
Group = tuple[str, list[str]]

#: What the module pages say above their names.
MODULES = {
    "results": "What the functions return",
    "errors": "Errors",
    "plots": "Pictures",
}


def groups() -> list[Group]:
    """The public names of `jetruler`, as its stub groups them."""
    found: list[Group] = []
    for line in STUB.read_text("utf-8").splitlines():
        if title := re.fullmatch(r"# ([A-Z][a-z ]+)", line):
            found.append((title[1], []))
        elif (name := re.fullmatch(r"from \.\w\S* import (\w+) as \w+", line)) and found:
            found[-1][1].append(name[1])
    found[-1][1].remove("JetRulerError")  # it stands among the errors
    return found


def pages() -> Iterator[tuple[str, str, str]]:
    """Every page that is made: where it stands, its title and its text."""
    index = [
        "# Reference",
        "",
        "`import jetruler as jr` gives these names; no other is public.",
        "",
    ]
    made = []
    for title, names in groups():
        place = title.lower().replace(" ", "-") + ".md"
        made.append((f"reference/{place}", title, _page(title, "jetruler", names)))
        index.append(f"- [{title}]({place}): " + ", ".join(f"`{name}`" for name in names))
    for module, title in MODULES.items():
        names = sorted(getattr(jetruler, module).__all__)
        prefix = f"jetruler.{module}"
        text = _page(title, prefix, names)
        made.append((f"reference/{module}.md", title, text))
        index.append(
            f"- [{title}]({module}.md), `jr.{module}`: " + ", ".join(f"`{n}`" for n in names)
        )
    yield "reference/index.md", "Reference", "\n".join(index) + "\n"
    yield from made
    yield "commands.md", "The command line", _commands()


def _page(title: str, prefix: str, names: list[str]) -> str:
    return f"# {title}\n\n" + "\n".join(_entry(prefix, name) for name in names)


#: What is shown of a name beside its own text: laws have the methods that their base tells of.
OPTIONS = {
    **{law.__name__: "members: false" for law in LAWS.values()},
    "Law": "inherited_members: true",
    "Live": "inherited_members: true",
}


def _entry(prefix: str, name: str) -> str:
    """What makes the text of a name."""
    given = [OPTIONS[name]] if name in OPTIONS else _members(prefix, name)
    options = f"    options: {{ {', '.join(given)} }}\n" if given else ""
    return f"::: {_home(prefix, name)}\n{options}"


def _members(prefix: str, name: str) -> list[str]:
    """The members of a class without its fields, which its docstring lists."""
    module = jetruler if prefix == "jetruler" else getattr(jetruler, prefix.partition(".")[2])
    thing = getattr(module, name)
    if not dataclasses.is_dataclass(thing):
        return []
    fields = {field.name for field in dataclasses.fields(thing)}
    own = [key for key in vars(thing) if not key.startswith("_") and key not in fields]
    return [f"members: [{', '.join(own)}]" if own else "members: false"]


def _home(prefix: str, name: str) -> str:
    """Where the code of a public name stands, for the tool that reads it."""
    module = jetruler if prefix == "jetruler" else getattr(jetruler, prefix.partition(".")[2])
    thing = getattr(module, name)
    return f"{thing.__module__}.{thing.__qualname__}" if hasattr(thing, "__qualname__") else name


def _commands() -> str:
    """What `--help` says, of every command."""
    parts = [
        "# The command line",
        "",
        "What `jetruler COMMAND --help` says, command by command.",
        "",
    ]
    top = click.Context(cli, info_name="jetruler", terminal_width=100)
    parts += _told(cli, top, "jetruler")
    for path, command, context in _below(cli, top, "jetruler"):
        parts += [f"## `{path}`", "", *_told(command, context, path)]
    return "\n".join(parts)


def _below(
    group: click.Group, context: click.Context, path: str
) -> Iterator[tuple[str, click.Command, click.Context]]:
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        assert command is not None
        inner = click.Context(command, info_name=name, parent=context, terminal_width=100)
        yield f"{path} {name}", command, inner
        if isinstance(command, click.Group):
            yield from _below(command, inner, f"{path} {name}")


def _told(command: click.Command, context: click.Context, path: str) -> list[str]:
    return ["```text", command.get_help(context).strip(), "```", ""]


def on_page_markdown(text: str, page: Any, **_: Any) -> str:
    """Typeset the formula of each law below its picture: as MathML, which browsers draw themselves."""
    if page.file.src_uri != "laws.md":
        return text
    for entry in tomllib.loads(LAWS_TOML.read_text("utf-8"))["entry"]:
        name = re.search(r'law = "([\w-]+)"', entry["bench"])
        assert name is not None
        heading = re.search(rf"^!\[{name[1]}\]\(.*\)$", text, re.M)
        assert heading is not None, name[1]
        parts = "".join(map(typeset, entry["tex"].split(r"\qquad")))
        formula = f'\n\n<div class="formula">{parts}</div>'
        text = text[: heading.end()] + formula + text[heading.end() :]
    return text


def typeset(tex: str) -> str:
    """A formula in TeX as MathML."""
    from latex2mathml.converter import convert

    return f"<span>{convert(tex, display='block')}</span>"


def on_config(config: Any) -> Any:
    """Put the pages of the reference below its heading."""
    reference = next(part["Reference"] for part in config.nav if "Reference" in part)
    for place, title, _ in pages():
        if place.startswith("reference/") and not place.endswith("index.md"):
            reference.append({title: place})
    return config


def on_files(files: Any, config: Any) -> Any:
    """Add the pages."""
    from mkdocs.structure.files import File

    for place, _, text in pages():
        files.append(File.generated(config, place, content=text))
    return files
