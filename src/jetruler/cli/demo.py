"""`jetruler demo`: the whole tour on the bundled data, into a folder."""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import click

from .. import demo
from ..core.error_types import JetRulerError
from ..demo.tour import STEPS, TourStep


@click.command()
@click.argument("folder", default="jetruler-demo")
def command(folder: str) -> None:
    """Make FOLDER (default jetruler-demo) with the demo's files and every output of the tour."""
    home = Path(folder)
    if home.exists() and (not home.is_dir() or any(home.iterdir())):
        raise JetRulerError(f"{folder}: this is there already; name a new or empty folder")
    home.mkdir(parents=True, exist_ok=True)
    demo.unpack(home)
    for name, shows in demo.SHOWS.items():
        click.echo(f"{name}: {shows}")
    started = time.monotonic()
    with contextlib.chdir(home):
        for number, step in enumerate(STEPS, start=1):
            _show(step)
            lasted = time.monotonic() - started
            click.echo(f"step {number} of {len(STEPS)} done after {lasted:.1f} s", err=True)
    click.echo(f"\nAll of it is in {folder}. Go there and try: jetruler explain damper --for 50")


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
