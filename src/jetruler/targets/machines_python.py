"""Smoothing, trips and drives in Python: classes that run on small interpreters."""

from __future__ import annotations

from ..core.decide.drives import command_text
from ..core.firmware.machine import Driving, Smoothed, Tested, Tripping
from ..core.firmware.names import comment
from .machines_c import _about


def class_name(name: str) -> str:
    """`too_hot` → `TooHot`."""
    return "".join(part.capitalize() for part in name.split("_"))


def smoothing(s: Smoothed) -> str:
    """Counts in, the value of the smoothed count out; what has no value is left out."""
    result = {
        "mean": "total = sum(self.past)\n        count = (abs(total) + len(self.past) // 2) // len(self.past)\n"
        "        count = -count if total < 0 else count",
        "median": "ordered = sorted(self.past)\n"
        "        total = ordered[(len(ordered) - 1) // 2] + ordered[len(ordered) // 2]\n"
        "        count = -(-total // 2) if total < 0 else total // 2",
        "exponential": f"if len(self.past) == 1:\n            self.level = n * 256\n        else:\n"
        f"            step = (n * 256 - self.level) * 2\n"
        f"            self.level += -(-step // {s.samples + 1}) if step < 0 else step // {s.samples + 1}\n"
        "        count = (self.level + 128) // 256",
    }[s.kind]
    last_only = "        self.past = self.past[-1:]\n" if s.samples == 1 else ""
    return f"""\
# {s.name}, smoothed: {s.kind} over {s.samples} counts.
class {class_name(s.name)}Smoothing:
    def __init__(self):
        self.past = []
        self.level = 0

    def update(self, n):
        now = {s.name}(n)
        if now is None:
            return None
        self.past.append(n)
        if len(self.past) > {max(2, s.samples)}:
            self.past.pop(0)
{last_only}        {result}
        return {s.name}(count)"""


def trip(t: Tripping) -> str:
    """Values, flags and the time in milliseconds in, on or off out."""
    takes = "".join(f", {c}, {c}_flag" for c in t.channels)
    lines = [f"# {comment(str(t.trip))}", f"class {class_name(t.name)}:", "    def __init__(self):",
             "        self.on = False", "        self.since = None", "        self.turned = 0",
             f"        self.held = [False] * {len(t.tested)}",
             f"        self.past = [[] for _ in range({len(t.tested)})]", "",
             f"    def update(self, now{takes}):"]  # fmt: skip
    for i, c in enumerate(t.tested):
        lines += [f"        {line}" for line in _condition(c, i)]
    lines += [f"        counts = {t.trip.join}(self.held)",
              "        if counts and self.since is None:", "            self.since = now",
              "        if not counts:", "            self.since = None",
              f"        counts = counts and now - self.since >= {t.hold}",
              "        if not self.on and counts:", "            self.on = True",
              "            self.turned = now",
              f"        elif self.on and not counts and now - self.turned >= {t.stay}:",
              "            self.on = False", "        return self.on"]  # fmt: skip
    return "\n".join(lines)


def _condition(c: Tested, i: int) -> list[str]:
    v = c.channel
    if c.kind == "flagged":
        return [f"self.held[{i}] = ({v}_flag & {c.mask}) != 0"]
    if c.kind == "moves":
        tests = []
        if c.down is not None:
            tests.append(f"max(values) - {v} >= {c.down}")
        if c.up is not None:
            tests.append(f"{v} - min(values) >= {c.up}")
        return [f"if {v} is not None:",
                f"    self.past[{i}] = [p for p in self.past[{i}] if now - p[0] <= {c.window}]",
                f"    self.past[{i}].append((now, {v}))",
                f"    values = [p[1] for p in self.past[{i}]]",
                f"    self.held[{i}] = {' or '.join(tests)}"]  # fmt: skip
    signs = (">=", "<") if c.kind == "above" else ("<", ">=")
    return [f"if {v} is not None:", f"    if {v} {signs[0]} {c.on}:", f"        self.held[{i}] = True",
            f"    elif {v} {signs[1]} {c.off}:", f"        self.held[{i}] = False"]  # fmt: skip


def drive(d: Driving) -> str:
    """A value and the time in milliseconds in, the command out."""
    f = d.fraction
    low, high = (command_text(b * f) for b in d.drive.bounds)
    safe, off = (command_text(c * f) for c in (d.drive.safe, d.drive.off or 0.0))
    x, y = d.x, d.y
    lines = [f"# {comment(_about(d))}",
             f"# unsafe: what it follows has a flag of {d.mask}, or a trip says so.",
             f"class {class_name(d.name)}:", "    def __init__(self):", f"        self.level = {safe}",
             "        self.time = None", "", "    def update(self, now, value, unsafe):",
             f"        goal = {safe}", "        if not (unsafe or value is None):",
             f"            if value <= {x[0]}:", f"                goal = {y[0]}"]  # fmt: skip
    for i in range(len(x) - 1):
        rise, width = y[i + 1] - y[i], x[i + 1] - x[i]
        sign = "+" if rise >= 0 else "-"
        along = f"value - {x[i]}" if x[i] >= 0 else f"value + {-x[i]}"
        fraction = f"(({along}) * {abs(rise)} + {width // 2}) // {width}"
        lines += [
            f"            elif value <= {x[i + 1]}:",
            f"                goal = {y[i]} {sign} {fraction}",
        ]
    lines += ["            else:", f"                goal = {y[-1]}"]
    if d.dead:
        lines += [f"            if {int(off) - d.dead} <= goal <= {int(off) + d.dead}:",
                  f"                goal = {off}"]  # fmt: skip
    lines.append(f"            goal = min(max(goal, {low}), {high})")
    if d.slew:
        lines += ["            passed = 0 if self.time is None else now - self.time",
                  f"            most = passed * {d.slew} // 1000",
                  "            goal = min(max(goal, self.level - most), self.level + most)",
                  "        self.time = now"]  # fmt: skip
    half = f // 2
    lines += ["        self.level = goal", "        if goal >= 0:",
              f"            return (goal + {half}) // {f}",
              f"        return -((-goal + {max(half - 1, 0)}) // {f})"]  # fmt: skip
    return "\n".join(lines)
