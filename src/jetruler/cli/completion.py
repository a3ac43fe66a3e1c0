"""Completion in shells: Click's for bash, zsh and fish, one of ours for PowerShell; channels and
files complete too. Loaded only where a shell asks.
"""

from __future__ import annotations

import os
from typing import Any

import click
from click.shell_completion import (
    CompletionItem,
    ShellComplete,
    add_completion_class,
    split_arg_string,
)

from ..core.error_types import JetRulerError
from .common import load

_POWERSHELL = """\
Register-ArgumentCompleter -Native -CommandName %(prog_name)s -ScriptBlock {
    param($word, $line, $cursor)
    $env:COMP_WORDS = $line.ToString()
    $env:COMP_CWORD = $word
    $env:%(complete_var)s = "powershell_complete"
    try {
        %(prog_name)s | Where-Object { $_ } | ForEach-Object {
            $value, $about = $_ -split "`t", 2
            [System.Management.Automation.CompletionResult]::new(
                $value, $value, "ParameterValue", $about)
        }
    } finally {
        Remove-Item Env:COMP_WORDS, Env:COMP_CWORD, Env:%(complete_var)s
    }
}
"""


class PowerShell(ShellComplete):
    """A word and what it is, with a tab between them. For a file nothing is said: PowerShell then
    completes files itself."""

    name = "powershell"
    source_template = _POWERSHELL

    def get_completion_args(self) -> tuple[list[str], str]:
        """The whole words, and the one that is not finished."""
        # A backslash separates folders here.
        words = split_arg_string(os.environ["COMP_WORDS"].replace("\\", "\\\\"))[1:]
        incomplete = os.environ["COMP_CWORD"]
        if incomplete and words and words[-1] == incomplete:
            words.pop()
        return words, incomplete

    def get_completions(self, args: list[str], incomplete: str) -> list[CompletionItem]:
        """Those that are no files."""
        found = super().get_completions(args, incomplete)
        return [item for item in found if item.type == "plain"]

    def format_completion(self, item: CompletionItem) -> str:
        """One line."""
        return f"{item.value}\t{item.help or item.value}"


add_completion_class(PowerShell)


def complete(command: click.Command) -> None:
    """Have a command complete its channels from the bench file, and its files."""
    for param in command.params:
        if param.name in ("channel", "channels", "other"):
            param.shell_complete = _channels  # type: ignore[method-assign]
        elif getattr(param, "metavar", None) in ("FILE", "[FILE]", "LOG", "LOG...", "WHERE"):
            param.shell_complete = _files  # type: ignore[method-assign]
    for inner in getattr(command, "commands", {}).values():
        complete(inner)


def _channels(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    try:
        bench = load(ctx.params.get("bench_path") or "bench.toml")
    except JetRulerError:
        return []
    channels: Any = bench.channels.values()
    return [CompletionItem(c.name, help=c.about) for c in channels if c.name.startswith(incomplete)]


def _files(ctx: click.Context, incomplete: str) -> list[CompletionItem]:
    return [CompletionItem(incomplete, type="file")]
