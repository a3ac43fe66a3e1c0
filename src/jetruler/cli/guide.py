"""`jetruler demo` and `help`: the tour in chapters, the documentation in the terminal."""

from __future__ import annotations

import contextlib
import io
import os
import re
import shlex
import sys
import time
from collections.abc import Iterator
from importlib.resources import files
from pathlib import Path

import click

from .. import demo
from ..core.error_types import JetRulerError
from ..core.ruler.units import nearest
from ..demo import CHAPTERS, TourStep
from .streams import as_shown, console

# The tour.


@click.command()
@click.argument("chapters", nargs=-1, metavar="[CHAPTER]...")
@click.option(
    "-o",
    "--output",
    "folder",
    default="jetruler-demo",
    show_default=True,
    metavar="FOLDER",
    help="Where the files go: a new or empty folder, or that of an earlier chapter.",
)
@click.option("--files", "only_files", is_flag=True, help="Only the bench files and the logs.")
@click.option("--list", "lists", is_flag=True, help="Only list the chapters.")
def demo_command(chapters: tuple[str, ...], folder: str, only_files: bool, lists: bool) -> None:
    """Run the tour on a made-up coffee roast: each CHAPTER, or all of them.

    FOLDER gets the bench files, the logs, and every output.
    """
    known = {chapter.name: chapter for chapter in CHAPTERS}
    for name in chapters:
        if name not in known:
            raise JetRulerError(
                f"chapter: expected one of {', '.join(known)}, found {name!r} (-o names the folder)"
            )
    if lists:
        _list_chapters()
        return
    home = Path(folder)
    _make(home, again=bool(chapters or only_files))
    if only_files or not chapters:
        for name, shows in demo.SHOWS.items():
            click.echo(f"{name}: {shows}")
    if not only_files:
        if not chapters:
            click.echo()
            _list_chapters()
        steps = [step for name in chapters or known for step in known[name].steps]
        _run_steps(home, steps)
    after = "look roast.csv" if only_files else "explain damper --for 50"
    click.echo(f"\nThe files are in {home.resolve()}. Next:")
    click.echo(f"  cd {shlex.quote(folder)}")
    click.echo(f"  jetruler {after}")


def _list_chapters() -> None:
    click.echo("The chapters of the tour; `jetruler demo NAME` runs one:")
    for chapter in CHAPTERS:
        click.echo(f"  {chapter.name:8} {chapter.about}")


def _make(home: Path, again: bool) -> None:
    """The folder with the demo's files. again: whether it may hold them already, unchanged."""
    if home.exists() and (not home.is_dir() or any(home.iterdir())):
        kept = home.is_dir() and all(
            (home / name).is_file() and (home / name).read_bytes() == demo.read(name)
            for name in demo.FILES
        )
        if not (again and kept):
            raise JetRulerError(f"{home}: expected a new or empty folder, found files in it")
        return
    home.mkdir(parents=True, exist_ok=True)
    demo.unpack(home)


def _run_steps(home: Path, steps: list[TourStep]) -> None:
    started = time.monotonic()
    with contextlib.chdir(home):
        for number, step in enumerate(steps, start=1):
            _show(step)
            lasted = time.monotonic() - started
            click.echo(f"step {number} of {len(steps)} done after {lasted:.1f} s", err=True)


def _show(step: TourStep) -> None:
    """Run one command of the tour as if it were typed, and say what it shows."""
    if step.before is not None:
        step.before(Path())
    into = f" > {step.into}" if step.into else ""
    click.echo(f"\n$ jetruler {step.command}{into}")
    with _stdout_into(step.into):
        _run(shlex.split(step.command))
    if step.then is not None:
        click.echo(Path(step.then).read_text("utf-8").rstrip())
    for line in filter(None, step.shows.split("\n")):
        click.echo(f"# {line}")


def _run(words: list[str]) -> None:
    from . import FOUND, cli

    with contextlib.suppress(click.exceptions.Exit):
        try:
            cli.main(words, prog_name="jetruler", standalone_mode=False)
        except SystemExit as stop:
            if stop.code != FOUND:
                raise


@contextlib.contextmanager
def _stdout_into(path: str | None) -> Iterator[None]:
    """What is written to standard output goes into a file, as `> path` of a shell does."""
    sys.stdout.flush()
    if path is None:
        yield
        return
    kept, encoding = os.dup(1), sys.stdout.encoding
    with Path(path).open("wb") as file:
        os.dup2(file.fileno(), 1)
    _encode_as("utf-8")
    try:
        yield
        sys.stdout.flush()
    finally:
        _encode_as(encoding)
        os.dup2(kept, 1)
        os.close(kept)


def _encode_as(encoding: str) -> None:
    if isinstance(sys.stdout, io.TextIOWrapper):
        sys.stdout.reconfigure(encoding=encoding)


# The documentation.

#: The widest line of a page.
WIDEST = 100


@click.command()
@click.argument("name", default="", metavar="[PAGE]")
def help_command(name: str) -> None:
    """Show a PAGE of the documentation, a law, a finding of `check` or a command; without one, list
    the pages."""
    from . import COMMANDS

    pages, laws, rules = _pages(), _sections("laws"), _sections("checks")
    name = name.removeprefix("docs/").removesuffix(".md")
    if not name:
        click.echo("The pages; `jetruler help PAGE` shows one, `jetruler help LAW` a law:")
        for page in sorted(pages):
            click.echo(f"  {page:15} {_title(pages[page])}")
        click.echo(f"The laws: {', '.join(laws)}")
    elif name in pages:
        _print(pages[name])
    elif name in laws | rules:
        _print((laws | rules)[name])
    elif name in COMMANDS:
        _run([name, "--help"])
    else:
        near = nearest(name, [*pages, *laws, *rules, *COMMANDS])
        known = "`jetruler help` lists them" if near.startswith("known") else near
        raise JetRulerError(f"page: expected a page, a law or a command, found {name!r} ({known})")


def _pages() -> dict[str, str]:
    """Each page by its name, as Markdown."""
    home = files("jetruler") / "pages"
    if not home.is_dir():  # from a clone, or an installation that points to one
        home = Path(__file__).parents[3] / "docs"
    if not home.is_dir():
        raise JetRulerError(
            f"{home}: expected the pages of the guide, found none in this installation"
        )
    found = (page for page in home.iterdir() if page.name.endswith(".md"))
    return {page.name.removesuffix(".md"): page.read_text("utf-8") for page in found}


def _sections(page: str) -> dict[str, str]:
    """The parts of a page that are about one law or one finding each, by its name."""
    parts = re.split(r"^## ", _pages()[page], flags=re.M)[1:]
    return {part[1:].partition("`")[0]: f"# {part}" for part in parts if part.startswith("`")}


def page_names() -> list[str]:
    """What can be asked for."""
    return [*sorted(_pages()), *_sections("laws"), *_sections("checks")]


def _title(page: str) -> str:
    found = re.search(r"^# (.+)$", page, re.M)
    return found[1] if found else ""


def _print(page: str) -> None:
    """On a terminal laid out, in a pager; else as it is written."""
    out, text = console(), _without_links(page)
    if not out.is_terminal:
        click.echo(text.rstrip())
        return
    from rich.markdown import Markdown

    with out.capture() as laid_out:
        made = Markdown(as_shown(text), code_theme="ansi_dark", hyperlinks=False)
        out.print(made, width=min(out.width, WIDEST))
    click.echo_via_pager(laid_out.get())


def _without_links(page: str) -> str:
    """A page as a terminal can show it: no pictures; a link to a page says how to read that."""
    page = re.sub(r"\n?\[?!\[[^\]]*\]\([^)]*\)(\]\([^)]*\))?", "", page)

    def written(link: re.Match[str]) -> str:
        text, target = link[1], link[2]
        page = re.fullmatch(r"(?:.*/)?([\w-]+)\.md(?:#.*)?", target)
        if page is None:
            return text
        command = f"`jetruler help {page[1]}`"
        return command if text.endswith(".md") else f"{text} ({command})"

    return re.sub(r"(?<!!)\[([^\]]+)\]\(([^)\s]+)\)", written, page)
