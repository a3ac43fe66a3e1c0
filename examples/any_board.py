"""Any line a board prints: how it is read is found out, and said."""

import jetruler as jr

LINES = {
    "bare numbers": ["Sensor 3 ready", "731", "728", "nan", "733"],
    "cells": ["0.0 731", "0.1 728", "0.2 nan", "0.3 733"],
    "pairs": ["A0:731 A1:12", "A0:728 A1:12", "A0:- A1:13", "A0:733 A1:12"],
    "words": ["The knob is at 731 now", "The knob is at 728 now", "The knob is at 733 now"],
    "a time in front": ["12:00:01 -> 731", "12:00:02 -> 728", "12:00:03 -> 733"],
    "units in the cells": ["0 ms;731;41 %", "100 ms;728;41 %", "200 ms;733;42 %"],
    "a data logger": [
        "day;clock;knob",
        ";;count",
        "30.11.2026;23:59:59,5;731",
        "01.12.2026;00:00:00,0;728,5",
    ],
}
COLUMNS: dict[str, str | int] = {
    "cells": 2,
    "pairs": "A0",
    "a time in front": 2,
    "units in the cells": 2,
    "a data logger": "knob",
}

for name, lines in LINES.items():
    knob = jr.Channel(
        "knob", jr.Adc(bits=10, vref=5) >> jr.Line(20, unit="%"), COLUMNS.get(name, 1)
    )
    bench = jr.Bench("Desk", {"knob": knob})
    text = "\n".join(lines).encode() + b"\n"
    found = jr.look(text, bench)
    print(f"{name}: {found.line_format}")
    if found.noise:
        print(f"  {found.noise}")
    for sample in jr.stream([line for line in lines if "ready" not in line], bench):
        flag = sample.flags["knob"].name
        print(f"  {sample.time}  {sample.values['knob']:.1f} %  {flag or ''}".rstrip())
