"""Inputs by kind and number: the demo's own, spoilt here and there."""

from __future__ import annotations

import random
import re

from jetruler import demo

BENCHES = [demo.read(name).decode() for name in demo.FILES if name.endswith(".toml")]
LOGS = [demo.read(name).decode() for name in demo.FILES if name.endswith(".csv")]

#: Values that belong nowhere, or not where they are put.
VALUES = (
    "nan", "inf", "-inf", "1e308", "-1", "0", '""', '"x"', "[]", "{}", "[[]]", "[{}]", "true",
    "1979-05-27", "07:32:00", '"9**9**9*m"', '"[/b]"', '"\\u0000"', '"\\u202e"', "1e-320",
    "[" * 50 + "]" * 50, "[" * 5000 + "]" * 5000, "9" * 400, "9" * 5000, '"' + "9" * 5000 + '"',
    "[1,2,3]", "[[1,2],[1,2]]", '["a",1]', "{a=1}", '"± 5 %"', '"1,234"', "[true,false]",
    "-9223372036854775808", '"5 V ± 1e400 V"', '"1e400"', '"1e-400 V"', "'a\\b'", '"0x10"',
    '[[0,1],[1,"x"]]', '[["0 V",0],["1 V","1 m"]]', '"x**9**9**9"', '"(((((x)))))"',
    '{ law = "line" }', "[{ law = 5 }]", "{any=[]}", '"/dev/zero"', '"\\u001b[31m"',
)  # fmt: skip

#: Cells and lines of logs and streams that are none.
CELLS = (
    "", "nan", "x", "9" * 400, "9" * 5000, "-", "1e308", "-1e308", "1e18", "0x1F", "1,5", '"', '"a',
    "\x00", "\x1b[31m", "é", "\udcff", "1_000", "٣", "+5", "--5", "5.", ".5", "1e", "NULL", "#",
)  # fmt: skip
LINES = (
    "# remark", "", "rst cause:2", "1,2,3,4", '"open', "a,b,c" * 500, "\x00" * 20, "time_s,ch0,ch0",
    "{" * 300 + "}" * 300, "[" * 100_000, '{"ch0": 1}', '{"ch0": [[1]]}', "ch0=5", "=",
    "x" * 70_000,
)  # fmt: skip


def bench(number: int) -> str:
    """A bench file."""
    r = random.Random(number)
    text = r.choice(BENCHES)
    lines = text.split("\n")
    for _ in range(r.randint(1, 3)):
        i = r.randrange(len(lines))
        line, kind = lines[i], r.random()
        found = list(re.finditer(r'"[^"]*"|-?\d+\.?\d*|\[[^\[\]]*\]|true|false', line))
        if kind < 0.45 and found:
            at = r.choice(found)
            lines[i] = line[: at.start()] + r.choice(VALUES) + line[at.end() :]
        elif kind < 0.55:
            del lines[i]
        elif kind < 0.65:
            lines.insert(i, r.choice(lines))
        elif kind < 0.8:
            key = r.choice(re.findall(r"\b([a-z_0-9]+) =", text))
            lines.insert(i, f"{key} = {r.choice(VALUES)}")
        elif kind < 0.9:
            lines[i] = line[: r.randrange(len(line) + 1)]
        else:
            place = r.randrange(len(line) + 1)
            lines[i] = line[:place] + r.choice("\t\"'[]{}=.#\\λ€\x00😀") + line[place + 1 :]
        lines = lines or [""]
    return "\n".join(lines)


def log(number: int) -> tuple[str, bytes]:
    """A log and its name."""
    r = random.Random(number)
    head, *rows = r.choice(LOGS).splitlines()
    start = r.randrange(max(1, len(rows) - 40))
    rows = rows[start : start + r.randint(0, 40)]
    name = r.choice(["x.csv", "x.csv", "x.csv", "x.jsonl", "x.parquet", "x.csv.gz"])
    if name == "x.jsonl":
        names = head.split(",")
        rows = [_object(names, row.split(",")) for row in rows]
        head = ""
    for _ in range(r.randint(1, 5)):
        if rows and r.random() < 0.7:
            i = r.randrange(len(rows))
            cells = rows[i].split(",")
            cells[r.randrange(len(cells))] = r.choice(CELLS)
            rows[i] = ",".join(cells)
        else:
            rows.insert(r.randrange(len(rows) + 1), r.choice(LINES))
    if r.random() < 0.15:
        cells = head.split(",")
        cells[r.randrange(len(cells))] = r.choice(CELLS)
        head = ",".join(cells)
    end = r.choice(["\n", "\n", "\r\n", "\r"])
    data = end.join(filter(None, [head, *rows])).encode("utf-8", "surrogateescape")
    return name, _spoilt(r, data) if r.random() < 0.3 else data


def stream(number: int) -> bytes:
    """Bytes as a board may send them."""
    r = random.Random(number)
    head, *rows = LOGS[0].splitlines()
    parts = [head] if r.random() < 0.9 else []
    for _ in range(r.randint(1, 60)):
        if r.random() < 0.7:
            cells = r.choice(rows).split(",")
            if r.random() < 0.4:
                cells[r.randrange(len(cells))] = r.choice(CELLS)
            parts.append(",".join(cells))
        else:
            parts.append(r.choice(LINES))
    data = r.choice(["\n", "\r\n"]).join(parts).encode("utf-8", "surrogateescape")
    return _spoilt(r, data) if r.random() < 0.5 else data


COMMANDS = (
    "convert roast.csv -o o.csv",
    "convert roast.csv -o o.csv --events e.csv --threads 1",
    "convert roast.csv --only bean --to jsonl --uncertainty",
    "look roast.csv -b bench.toml",
    "look roast.csv --ends damper --margin 3",
    "explain bean --at 1880 --budget --noise 1.4 --readings 16",
    "explain bean --for 225",
    "explain damper --at 2000 --json",
    "fit bean --marks bath.csv",
    "fit bean --mark 1880=120 --mark 2500=90 --mark 3000=70 --law beta",
    "fit damper --marks damper-marks.csv --robust --correction",
    "compare bean bean2 --log rest.csv --within 0.5",
    "compare bean --marks bath.csv --within 2",
    "export bean --to c --arith int16 --scale 10 --within 0.2",
    "export bean --to python --threshold bean=225/220 --text 8",
    "export damper --to st --interval 0.2",
    "check --log roast.csv --json",
    "choose averaging bean --at 220 --to 0.05 --noise 1.4",
    "choose resistor bean --between 20:200",
    "live --source none --duration 0.1 --inject bean=1880",
    "live --source roast.csv --format csv --duration 0.3",
    "new --from roast.csv",
    "convert roast.csv -o o.csv --events e.csv",
    "report --marks bean=bath.csv --log rest.csv -o r.md",
    "live --source roast.csv --record rec.csv --events e.csv",
    "export bean --to c -o o.h",
    "draw ruler bean -o o.svg",
)
ARGUMENTS = (
    "", "-1", "0", "1e308", "nan", "inf", "1e-30:1e30", "9" * 400, "bean=225", "bean=225/-999",
    "1880=225", "1,234=5", "3 kg=5 m", "12 V", "x", "[/b]", "\x1b[31m", "../..", "/dev/null", "-",
    "bean", "damper", "json", "python", "int16", "1e3", "0.1", "100", "None", "5", "17.5", "-3",
    "1e-9", "2500", "α", "a=b=c", "1:2:3", "roast.csv", "./bench.toml", "bath.csv", "rest.csv",
    "/dev/stdout", "/dev/fd/2", "/dev/full", "/dev/stdin", "o.csv",
)  # fmt: skip


def command(number: int) -> list[str]:
    """A command line: one that works, with a word or two changed, put in or left out."""
    r = random.Random(number)
    name, *words = r.choice(COMMANDS).split()
    for _ in range(r.randint(1, 2)):
        kind, place = r.random(), r.randrange(len(words))
        if kind < 0.6:
            words[place] = r.choice(ARGUMENTS)
        elif kind < 0.8:
            words.insert(place, r.choice(ARGUMENTS))
        elif len(words) > 1:
            del words[place]
    endless = name == "live" and "--duration" not in words
    for i, word in enumerate(words[:-1]):  # a sound command may last as long as it says
        if word == "--duration" and words[i + 1] in ("1e3", "100", "5", "17.5"):
            words[i + 1] = "0.1"
    return [name, *words, *(["--duration", "0.1"] if endless else [])]


def _object(names: list[str], cells: list[str]) -> str:
    pairs = zip(names, cells, strict=False)
    return "{" + ", ".join(f'"{name}": {cell or "null"}' for name, cell in pairs) + "}"


def _spoilt(r: random.Random, data: bytes) -> bytes:
    """Some bytes changed, or the end cut off."""
    if not data:
        return data
    if r.random() < 0.3:
        return data[: r.randrange(len(data))]
    found = bytearray(data)
    for _ in range(r.randint(1, 6)):
        found[r.randrange(len(found))] = r.randrange(256)
    return bytes(found)


#: What the source of a session does; a text is said, with the time and a count put in.
STEPS = (
    "{t:.3f},{n},5\n", "{t:.3f},{n},5\n", "{t:.3f},{n},5\n", "{t:.3f},{n}", ",5\n", "1.98,{n},5\n",
    "-{t},{n},5\n", "x,{n},5\n", "{t:.0e},{n},5\n", "{t:.3f},,5\n", "{t:.3f},4095,5\n", "k,p,t\n",
    "k,over range,reset\n", "# {n}\n", "\n", "\0\n", "{n}\r\n", "{t:.3f},1e400,5\n", "{t};{n};5\n",
)  # fmt: skip
EVENTS = ("gone", "cut", "lost", "late", "bench", "broken", "mended", "hold", "disarm", "silence")


def session(number: int) -> list[str]:
    """What happens while an armed session runs, step by step."""
    r = random.Random(number)
    return [
        r.choice(EVENTS) if r.random() < 0.12 else
        r.choice(STEPS).format(t=i / 20, n=r.choice((0, 4096, r.randrange(4096))))
        for i in range(r.randint(1, 60))
    ]  # fmt: skip


def cells(number: int) -> tuple[int, str, float]:
    """A seed of odd columns, a format, and a memory."""
    r = random.Random(number)
    return number, r.choice(("csv", "jsonl", "parquet")), r.choice((0.0005, 0.001, 0.01, 64.0))


def array(number: int) -> tuple[str, int, int, list[int]]:
    """A type of numbers, an offset and a stride in its bytes, and counts."""
    r = random.Random(number)
    kind = r.choice("<>") + r.choice(("u1", "u2", "u4", "u8", "i2", "i4", "i8", "f2", "f4", "f8"))
    most = 127 if kind.endswith("1") else 2047
    return (
        kind,
        r.randrange(4),
        r.randint(1, 3),
        [r.randrange(most) for _ in range(r.randint(1, 50))],
    )
