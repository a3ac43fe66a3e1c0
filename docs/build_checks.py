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
from jetruler.core.finding import Findings, description
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

HEAD = """# What `check` looks for

Made by `python docs/build_checks.py` from the rules themselves. `jetruler check` reads the bench file; with `--log` it also
holds the bench against a log, and passes on what `look` finds wrong there. Findings come with their place, the evidence in
numbers, why it matters and what to do about it; errors first. The exit code is 1 if one of them is an error.

**What to type** is a change of the bench file. It has been tried before it is shown: after it the finding is gone, and no new one has come.
A finding whose change clears others too comes first, and the others are shown below it: they follow from it.
Where a circuit has to change (another resistor), the change says what to write once it has.

**Rows `expected`** say what must come out, in a channel or a drive: `expected = [[2048, 50.1], ["4.7 kohm", "114 degC", 1], [0, "none"]]` are a raw value (as `explain --at`
takes it), the value, command or zone, and how far off it may be (half of the last digit written if left out). `"none"` is no value. They are run each time.
What could not be judged for want of a number (limits, a noise) is said in a line a channel, which is no finding.

The examples stand below `[channel.a]` with `column = "ch0"`, on a converter of 12 bits and 3.3 V.
"""

PART = """
## `{name}`

{finds} {why}

```text
{bad}
```

{severity}: {what}. Remedy: {remedy}.{change}{samples} Like this, nothing is found:

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


def page() -> str:
    """The text of docs/checks.md."""
    parts, shown = [HEAD], examples()
    for heading, part in (("A bench alone", OF_BENCH), ("A bench and a log", OF_LOG)):
        parts.append(f"\n# {heading}\n")
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
