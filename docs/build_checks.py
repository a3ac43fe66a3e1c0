"""Writes docs/checks.md from the rules and checks.toml: `python docs/build_checks.py`."""

from __future__ import annotations

import sys
import tempfile
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from jetruler.benchfile.load import parse_bench
from jetruler.core.check.check import BENCH_RULES, CHANNEL_RULES, check
from jetruler.core.check.logged import LOG_RULES, swapped_columns
from jetruler.core.check.triggers import flickering_trip, short_window
from jetruler.core.result import Findings, description
from jetruler.logs.check_log import check_log, missing_column

HERE = Path(__file__).parent

#: Every rule: those about a bench, then those that need a log.
OF_BENCH: tuple[Callable[..., Any], ...] = (*BENCH_RULES, *CHANNEL_RULES)
OF_LOG: tuple[Callable[..., Any], ...] = (
    missing_column,
    swapped_columns,
    short_window,
    flickering_trip,
    *LOG_RULES,
)

HEAD = """# The mistakes that `check` finds

Made by `python docs/build_checks.py` from the rules themselves. `jetruler check` checks the bench file. With `--log` it also compares the bench with a log, and includes
the findings of `look`. Each finding has its place, its evidence in numbers, the reason why it matters, and a remedy; errors come first. The exit code is 1 if one of them is an error.

**To type** is a change of the bench file. `check` has tried it: the finding disappears, and no new one appears.
If one change removes several findings, the cause comes first, and the others are listed below it.
If the circuit must change (another resistor), the change shows what to write afterwards.

**Expected rows** test a channel or a drive: `expected = [[2048, 50.1], ["4.7 kohm", "114 degC", 1], [0, "none"]]` has a raw value (as for `explain --at`),
the value, command or zone, and the tolerance (by default half of the last digit). `"none"` means no value.
If a rule cannot be checked because a number is missing (limits, a noise), a line per channel says so.

All examples are below `[channel.a]` with `column = "ch0"`, with a converter of 12 bits and 3.3 V.

{contents}"""

PART = """
## `{name}`

{finds} {why}

```text
{bad}
```

{severity}: {what}. Remedy: {remedy}.{change}{samples} Corrected:

```text
{good}
```
"""


def examples() -> dict[str, dict[str, Any]]:
    """The examples by the name of the rule."""
    return tomllib.loads((HERE / "checks.toml").read_text("utf-8"))


def text(example: dict[str, Any], kind: str) -> str:
    """The bench file of the bad or the good example."""
    body, column = example[kind].strip(), "ch0"
    if kind == "bad":
        column = example.get("bad_column", column)
        body = body.replace('"other"', f'"{example.get("bad_other", "other")}"')
    head = '[converter]\nbits = 12\nvref = "3.3 V ± 1 %"\n[channel.a]\ncolumn ='
    return f'{head} "{column}"\n{body}\n'


def findings(example: dict[str, Any], kind: str) -> Findings:
    """What is found in the bad or the good example."""
    bench = parse_bench(example.get(f"{kind}_text") or text(example, kind))
    samples = example.get(f"samples_{kind}", example.get("samples"))
    if samples is None:
        return check(bench)
    with tempfile.TemporaryDirectory() as folder:
        log = Path(folder) / "log.csv"
        rows = [f"{count},{i % 40 + 30}" for i, count in enumerate(samples * 40)]
        heading = "ch0,other"
        if every := example.get("every"):  # seconds between two samples
            heading = f"time_s,{heading}"
            rows = [f"{i * every:g},{row}" for i, row in enumerate(rows)]
        log.write_text("\n".join([heading, *rows]) + "\n")
        return check_log(log, bench)


def _every(example: dict[str, Any]) -> str:
    return f", a sample every {example['every']} s" if "every" in example else ""


def contents() -> str:
    """A table of all rules, with links."""
    rows = [description(rule) for rule in (*OF_BENCH, *OF_LOG)]
    lines = [f"| [`{row.name}`](#{row.name}) | {row.finds} |" for row in rows]
    return "\n".join(["| rule | finds |", "|---|---|", *lines]) + "\n"


def page() -> str:
    """The text of docs/checks.md."""
    parts, shown = [HEAD.format(contents=contents())], examples()
    for heading, part in (("A bench alone", OF_BENCH), ("A bench and a log", OF_LOG)):
        parts.append(f"\n## {heading}\n")
        for rule in part:
            about = description(rule)
            example = shown[about.name]
            found = next(f for f in findings(example, "bad").flat if f.rule == about.name)
            samples = example.get("samples_bad", example.get("samples"))
            counts = ", ".join(map(str, samples or ()))
            parts.append(
                PART.format(
                    name=about.name,
                    finds=about.finds,
                    why=about.why,
                    bad=example["bad"].strip(),
                    good=example["good"].strip(),
                    severity=found.severity.name.capitalize(),
                    what=found.what,
                    remedy=found.remedy,
                    change=f" To type: `{found.change}`." if found.change else "",
                    samples=f" (The log repeats {counts}{_every(example)}.)" if samples else "",
                )
            )
    return "".join(parts)


def main() -> None:
    """Write the page."""
    missing = {description(rule).name for rule in (*OF_BENCH, *OF_LOG)} ^ set(examples())
    if missing:
        sys.exit(f"docs/checks.toml and the rules differ in: {', '.join(sorted(missing))}")
    (HERE / "checks.md").write_text(page(), encoding="utf-8")


if __name__ == "__main__":
    main()
