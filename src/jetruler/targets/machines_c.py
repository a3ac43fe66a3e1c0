"""Smoothing, trips and drives in C: a struct that starts zeroed, and a function that updates it."""

from __future__ import annotations

from ..core.decide.drives import command_text
from ..core.firmware.machine import WINDOW, Driving, Smoothed, Tested, Tripping
from ..core.firmware.names import comment


def smoothing(s: Smoothed) -> str:
    """Counts in, the value of the smoothed count out; what has no value is left out."""
    name, n, narrow = s.name, s.samples, f"{s.arith}_t"
    head = f"""\
/* {name}, smoothed: {s.kind} over {n} counts. Start with a zeroed struct. */
struct {name}_smoothing {{ int32_t past[{n}]; int32_t sum; uint8_t at, filled; }};
static inline int32_t {name}_smoothed(struct {name}_smoothing *s, int32_t n)
{{
    int32_t now = (int32_t){name}(({narrow})n);
    if (now == (int32_t){name.upper()}_NO_VALUE) return now;
"""
    if s.kind == "exponential":
        inner = f"""\
    if (!s->filled) {{ s->sum = n * 256; s->filled = 1; }}
    else s->sum += ((n * 256 - s->sum) * 2) / {n + 1};
    return (int32_t){name}(({narrow})((s->sum + (s->sum < 0 ? -128 : 128)) / 256));
}}"""
    elif s.kind == "mean":
        inner = f"""\
    s->sum += n - (s->filled == {n} ? s->past[s->at] : 0);
    s->past[s->at] = n;
    s->at = (uint8_t)((s->at + 1) % {n});
    if (s->filled < {n}) s->filled++;
    return (int32_t){name}(({narrow})((s->sum + (s->sum < 0 ? -(s->filled / 2) : s->filled / 2)) / s->filled));
}}"""
    else:
        inner = f"""\
    int32_t sorted[{n}];
    uint8_t i, j;
    s->past[s->at] = n;
    s->at = (uint8_t)((s->at + 1) % {n});
    if (s->filled < {n}) s->filled++;
    for (i = 0; i < s->filled; i++) {{
        int32_t one = s->past[i];
        for (j = i; j > 0 && sorted[j - 1] > one; j--) sorted[j] = sorted[j - 1];
        sorted[j] = one;
    }}
    n = (sorted[(s->filled - 1) / 2] + sorted[s->filled / 2]) / 2;
    return (int32_t){name}(({narrow})n);
}}"""
    return head + inner


def trip(t: Tripping) -> str:
    """Values, flags and the time in, on or off out."""
    name = t.name
    moves = [i for i, c in enumerate(t.tested) if c.kind == "moves"]
    fields = "".join(f" uint8_t held{i};" for i in range(len(t.tested)))
    if moves:
        fields += "".join(
            f"\n    uint32_t t{i}{k}[{WINDOW}]; int32_t v{i}{k}[{WINDOW}]; uint8_t n{i}{k};"
            for i in moves
            for k in ("hi", "lo")
        )
    takes = "".join(f", int32_t {c}, int32_t {c}_flag" for c in t.channels)
    lines = [f"/* {comment(str(t.trip))} */"]
    lines += _WINDOW_C if moves else []
    lines += [
        f"struct {name} {{ uint8_t on, holding; uint32_t since, turned;{fields} }};",
        f"static inline uint8_t {name}_update(struct {name} *s, uint32_t now{takes})",
        "{",
        "    uint8_t all = 1, any = 0, counts;",
    ]
    for i, c in enumerate(t.tested):
        lines += _condition(c, i)
        lines.append(f"    all = (uint8_t)(all && s->held{i}); any = (uint8_t)(any || s->held{i});")
    lines += [f"    (void){c}; (void){c}_flag;" for c in t.channels]
    joined = "any" if t.trip.join == "any" else "all"
    lines += [
        f"    (void)all; (void)any; counts = {joined};",
        "    if (counts && !s->holding) s->since = now;",
        "    s->holding = counts;",
        *([f"    counts = (uint8_t)(counts && now - s->since >= {t.hold}u);"] if t.hold else []),
        "    if (!s->on && counts) { s->on = 1; s->turned = now; }",
        f"    else if (s->on && !counts{f' && now - s->turned >= {t.stay}u' if t.stay else ''}) s->on = 0;",
        "    return s->on;",
        "}",
    ]
    return "\n".join(lines)


def _condition(c: Tested, i: int) -> list[str]:
    v = c.channel
    there = f"{v} != (int32_t){v.upper()}_NO_VALUE"
    if c.kind == "flagged":
        return [f"    s->held{i} = (uint8_t)(({v}_flag & {c.mask}) != 0);"]
    if c.kind == "above":
        on, off = f"{v} >= {c.on}", f"{v} < {c.off}"
    elif c.kind == "below":
        on, off = f"{v} < {c.on}", f"{v} >= {c.off}"
    else:
        tests = []
        if c.down is not None:
            args = f"s->t{i}hi, s->v{i}hi, &s->n{i}hi, now, {v}, {c.window}u"
            tests.append(f"jetruler_largest({args}) - {v} >= {c.down}")
        if c.up is not None:
            args = f"s->t{i}lo, s->v{i}lo, &s->n{i}lo, now, -{v}, {c.window}u"
            tests.append(f"jetruler_largest({args}) + {v} >= {c.up}")
        each = [f"        if ({test}) moved = 1;" for test in tests]
        return [f"    if ({there}) {{", "        uint8_t moved = 0;", *each,
                f"        s->held{i} = moved;", "    }"]  # fmt: skip
    return [
        f"    if ({there}) {{ if ({on}) s->held{i} = 1; else if ({off}) s->held{i} = 0; }}",
    ]


#: The largest value of the last so many milliseconds. Only what can still become the largest is
#: remembered; where there is no room, the second newest of it gives way.
_WINDOW_C = f"""\
#ifndef JETRULER_LARGEST
#define JETRULER_LARGEST
static inline int32_t jetruler_largest(uint32_t *t, int32_t *v, uint8_t *n, uint32_t now, int32_t x, uint32_t within)
{{
    uint8_t i, drop = 0;
    while (*n > 0 && v[*n - 1] <= x) (*n)--;
    if (*n == {WINDOW}) (*n)--;
    t[*n] = now; v[*n] = x; (*n)++;
    while (now - t[drop] > within) drop++;
    for (i = drop; drop > 0 && i < *n; i++) {{ t[i - drop] = t[i]; v[i - drop] = v[i]; }}
    *n = (uint8_t)(*n - drop);
    return v[0];
}}
#endif""".splitlines()


def drive(d: Driving) -> str:
    """A value and the time in, the command out."""
    name, f = d.name, d.fraction
    low, high = (command_text(b * f) for b in d.drive.bounds)
    safe, off = (command_text(c * f) for c in (d.drive.safe, d.drive.off or 0.0))
    lines = [f"/* {comment(_about(d))} */",
             f"struct {name} {{ uint8_t begun; uint32_t time; int32_t level; }};",
             f"/* unsafe: what it follows has a flag of {d.mask}, or a trip says so. */",
             f"static inline int32_t {name}_update(struct {name} *s, uint32_t now, int32_t value, uint8_t unsafe)",
             "{", f"    int32_t goal = {safe};"]  # fmt: skip
    if d.source:
        lines.append(f"    if (value == (int32_t){d.source.upper()}_NO_VALUE) unsafe = 1;")
    lines.append("    if (!unsafe) {")
    x, y = d.x, d.y
    lines.append(f"        if (value <= {x[0]}) goal = {y[0]};")
    for i in range(len(x) - 1):
        rise = y[i + 1] - y[i]
        half = (x[i + 1] - x[i]) // 2
        sign = "+" if rise >= 0 else "-"
        fraction = f"((value - {_signed(x[i])}) * {abs(rise)} + {half}) / {x[i + 1] - x[i]}"
        lines.append(f"        else if (value <= {x[i + 1]}) goal = {y[i]} {sign} {fraction};")
    lines.append(f"        else goal = {y[-1]};")
    if d.dead:
        lines.append(
            f"        if (goal >= {int(off) - d.dead} && goal <= {int(off) + d.dead}) goal = {off};"
        )
    lines += [
        f"        if (goal < {low}) goal = {low};",
        f"        if (goal > {high}) goal = {high};",
        "    }",
    ]
    if d.slew:
        lines += [f"    if (!s->begun) {{ s->begun = 1; s->level = {safe}; s->time = now; }}",
                  "    if (!unsafe) {",
                  "        uint32_t passed = now - s->time;",
                  f"        int32_t most = passed > 60000u ? {_whole_way(d)} : (int32_t)(passed / 1000u) * {d.slew}",
                  f"            + (int32_t)(passed % 1000u) * {d.slew // 1000} + (int32_t)(passed % 1000u) * {d.slew % 1000} / 1000;",
                  "        if (goal > s->level + most) goal = s->level + most;",
                  "        if (goal < s->level - most) goal = s->level - most;", "    }",
                  "    s->time = now;"]  # fmt: skip
    else:
        lines.append("    (void)now;")
    half = f // 2
    lines += ["    s->level = goal;",
              f"    return goal >= 0 ? (goal + {half}) / {f} : -((-goal + {max(half - 1, 0)}) / {f});", "}"]  # fmt: skip
    return "\n".join(lines)


def _whole_way(d: Driving) -> int:
    """More than any way that the drive can have to go."""
    low, high = d.drive.bounds
    return int((high - low + 1) * d.fraction)


def _about(d: Driving) -> str:
    return f"{d.drive.name}: {d.drive.about or 'follows ' + d.drive.source}; safe {d.drive.safe:g}"


def _signed(value: int) -> str:
    return f"({value})" if value < 0 else str(value)
