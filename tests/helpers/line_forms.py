"""Lines as boards print them: one table, for every test that reads lines."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class LineForm:
    """How one value is written on a line. line: of the sample's number and the value's text;
    column: where a bench finds it; header: the line above, if there is one; clock: the seconds from
    one to the next, where its lines tell the time."""

    name: str
    column: str | int
    line: Callable[[int, str], str]
    header: str = ""
    clock: float = 0.0
    missing: tuple[str, ...] = ("nan", "NA", "null", "None", "-")

    def text(self, values: list[str]) -> list[str]:
        """The lines of some values."""
        lines = [self.line(i, value) for i, value in enumerate(values)]
        return [self.header, *lines] if self.header else lines


def _clock(i: int) -> str:
    return f"12:{i // 60:02}:{i % 60:02}"


def _json(value: str) -> str:
    missing = {"nan": "NaN", "NA": '"NA"', "None": '"None"', "-": '"-"', "": "null"}
    return missing.get(value, value)


FORMS = [
    LineForm("bare", 1, lambda i, v: v),
    LineForm("bare with CR", 1, lambda i, v: f"{v}\r"),
    LineForm("padded", 1, lambda i, v: f"  {v}  "),
    LineForm("bare, a header", "raw", lambda i, v: v, "raw"),
    LineForm("bare, a header of words", "raw counts", lambda i, v: v, "raw counts"),
    LineForm("comma", 2, lambda i, v: f"7,{v}"),
    LineForm("comma, first", 1, lambda i, v: f"{v},7"),
    LineForm("comma and blank", 2, lambda i, v: f"7, {v}"),
    LineForm("comma at the end", 1, lambda i, v: f"{v},"),
    LineForm("commas, one at the end", 2, lambda i, v: f"7,{v},"),
    LineForm("comma, a header", "k", lambda i, v: f"7,{v}", "a,k"),
    LineForm("comma, a header, a clock", "k", lambda i, v: f"{i / 10},{v}", "t_s,k", 0.1),
    LineForm("comma, a clock, no header", 2, lambda i, v: f"{i / 10},{v}", clock=0.1),
    LineForm("quoted", 2, lambda i, v: f'"7","{v}"'),
    LineForm("semicolon", 2, lambda i, v: f"7;{v}"),
    LineForm("semicolon, a header", "k", lambda i, v: f"7;{v}", "a;k"),
    LineForm("tab", 2, lambda i, v: f"7\t{v}"),
    LineForm("tab, a header", "k", lambda i, v: f"7\t{v}", "a\tk"),
    LineForm("blank", 2, lambda i, v: f"7 {v}"),
    LineForm("blanks", 2, lambda i, v: f" 7   {v}"),
    LineForm("blank, a header", "k", lambda i, v: f"7 {v}", "a k"),
    LineForm("bar", 2, lambda i, v: f"7|{v}"),
    LineForm("bar and blanks", 2, lambda i, v: f"7 | {v}"),
    LineForm("name=value", "A0", lambda i, v: f"A0={v}"),
    LineForm("name = value", "A0", lambda i, v: f"A0 = {v}"),
    LineForm("names=values", "A1", lambda i, v: f"A0=7 A1={v}"),
    LineForm("names=values, commas", "A0", lambda i, v: f"A0={v}, A1=7"),
    LineForm("name:value", "A0", lambda i, v: f"A0:{v}"),
    LineForm("name: value", "A0", lambda i, v: f"A0: {v}"),
    LineForm("names:values", "A1", lambda i, v: f"A0:512 A1:{v}"),
    LineForm("name: value unit", "Distance", lambda i, v: f"Distance: {v} cm"),
    LineForm("names: values units", "H", lambda i, v: f"T: 23.5 C H: {v} %"),
    LineForm("units on the values", "T", lambda i, v: f"T:{v}C,H:40%", missing=("nan",)),
    LineForm("cells with units", 2, lambda i, v: f"7 V,{v} mA"),
    LineForm("cells with units, a header", "k", lambda i, v: f"{i}|7V|{v}mA|9 %RH", "i|a|k|h"),
    LineForm("cells with units, an arrow", 2, lambda i, v: f"{_clock(i)} -> {v} °C,7 V", clock=1.0),
    LineForm("quoted with units", "k", lambda i, v: f'7;"{v} °C"', "a;k"),
    LineForm("brackets with units", 2, lambda i, v: f"[7 V, {v} mV]"),
    LineForm("a header, a unit behind", "k", lambda i, v: f"{v} mV", "k"),
    LineForm("JSON object", "k", lambda i, v: f'{{"k": {_json(v)}, "b": 7}}'),
    LineForm("JSON array", 2, lambda i, v: f"[7, {v}]"),
    LineForm("parentheses", 1, lambda i, v: f"({v}, -9.6, 1.3)"),
    LineForm("brackets", 2, lambda i, v: f"[7 {v}]"),
    LineForm("words around", 1, lambda i, v: f"Distance {v} cm"),
    LineForm("words before", 1, lambda i, v: f"The value is {v}"),
    LineForm("a unit behind", 1, lambda i, v: f"{v} mV"),
    LineForm("time of day, arrow", 2, lambda i, v: f"{_clock(i)} -> {v}", clock=1.0),
    LineForm("time of day, arrow, commas", 3, lambda i, v: f"{_clock(i)} -> 7,{v},8", clock=1.0),
    LineForm("time of day, arrow, tab", 2, lambda i, v: f"{_clock(i)} -> {v}\t7", clock=1.0),
    LineForm("time of day, arrow, blanks", 3, lambda i, v: f"{_clock(i)} -> 7 {v}", clock=1.0),
    LineForm("date, blank, semicolon", 2, lambda i, v: f"2026-01-01 {_clock(i)} {v};7", clock=1.0),
    LineForm("date in brackets, bar", 3, lambda i, v: f"[2026-01-01 {_clock(i)}] 7|{v}", clock=1.0),
    LineForm("time of day, blank", 2, lambda i, v: f"{_clock(i)}.250 {v}", clock=1.0),
    LineForm("time of day in brackets", 2, lambda i, v: f"[{_clock(i)}] {v}", clock=1.0),
    LineForm("time of day, comma", 2, lambda i, v: f"{_clock(i)},{v}", clock=1.0),
    LineForm("time of day, pairs", "A0", lambda i, v: f"{_clock(i)} A0={v} A1=3", clock=1.0),
    LineForm("date, comma", 2, lambda i, v: f"2026-01-01 {_clock(i)}, {v}", clock=1.0),
    LineForm("date, semicolon", 2, lambda i, v: f"2026-01-01T{_clock(i)}Z;{v}", clock=1.0),
    LineForm("date, blank", 2, lambda i, v: f"2026-01-01 {_clock(i)} {v}", clock=1.0),
    LineForm("date, time", 3, lambda i, v: f"2026-01-01,{_clock(i)},{v}", clock=1.0),
]

#: A channel that reads millivolts.
BENCH = """
[converter]
bits = 12
vref = 4.095
[channel.k]
column = {column}
decimals = 3
[trip.gone]
any = [{{ channel = "k", flagged = ["missing"] }}]
"""


def bench_of(form: LineForm) -> str:
    """A bench for a form."""
    return BENCH.format(column=json.dumps(form.column))
