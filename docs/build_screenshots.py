"""Makes every picture of docs/screenshots anew, from the demo's data: `make screenshots`.

It needs Xvfb, xterm, xdotool, ImageMagick's `import` and Chromium beside `.venv`.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import jetruler as jr

HERE = Path(__file__).parent
OUT = HERE / "screenshots"
BIN = Path(sys.executable).parent

#: Pictures that a command draws.
DRAWN = {
    "ruler-bean": "draw ruler bean --at 1880",
    "curve": "draw curve bean draught",
    "stages": "draw stages draught --at 1880",
    "histogram": "draw histogram roast.csv damper rail",
    "log": "draw log roast.csv bean damper rail",
    "inputs": "draw log store.csv -b store.toml",
    "compare": "draw compare bean bean2 --log rest.csv",
    "fit": "draw fit bean --marks bath.csv",
    "budget": "draw budget bean --at 3912 --at 400",
    "choose": "draw choose bean --from 20 --to 240",
}
#: What is typed into a terminal, line by line.
TYPED = {
    "terminal": ["jetruler explain bean --at 1880", "jetruler convert roast.csv -o out.csv"],
    "look": ["jetruler look roast.csv -b bench.toml"],
    "check": ["jetruler check -b mistakes.toml"],
    "export": [
        "jetruler export bean --to c --inside-limits --threshold bean=225 -o bean.h",
        "sed -n 10,44p bean.h",
    ],
    "archive": [
        "jetruler convert logs -o archive --to parquet --jobs 2",
        "jetruler convert logs -o archive --to parquet --resume",
        "ls -R archive",
    ],
}
#: Keys of the live view, after so many seconds each.
LIVE = {
    "live": [(10.0, "")],
    "traces": [(2.0, "t"), (4.0, "Down"), (1.0, "Down"), (1.0, "h"), (12.0, "")],
}
#: Lines that a person writes into a bench file by mistake, in place of the demo's.
SLIPS = {"150R ± 0.5 %": "250R ± 0.5 %", "[198, 0], [3904, 100]": "[0, 0], [1023, 100]"}

TERMINAL = (
    *("xterm", "-geometry", "158x50+0+0", "-fa", "DejaVu Sans Mono", "-fs", "9"),
    *("-tn", "xterm-256color", "-bg", "#16140f", "-fg", "#f4ecd8", "-e", "bash", "-c"),
)
PAGE = (
    *("chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars"),
    *("--window-size=1280,800", "--virtual-time-budget=4000"),
)
#: Seconds that a command may take until its picture is taken.
PATIENCE = 60.0


@contextmanager
def screen(home: Path) -> Iterator[dict[str, str]]:
    """A screen of 1280 × 800 that nobody sees; its environment."""
    number = f":{90 + os.getpid() % 400}"
    where = {**os.environ, "DISPLAY": number, "PATH": f"{BIN}:{os.environ['PATH']}"}
    where |= {"TERM": "xterm-256color", "COLORTERM": "truecolor"}
    server = subprocess.Popen(["Xvfb", number, "-screen", "0", "1280x800x24"], cwd=home)
    try:
        time.sleep(1.0)
        yield where
    finally:
        server.terminate()
        server.wait()


def typed(lines: list[str], out: Path, home: Path) -> None:
    """What a terminal shows when these lines are typed."""
    shown = "; ".join(f"echo '$ {line}'; {line}" for line in lines)
    with screen(home) as where:
        done = home / "done"
        done.unlink(missing_ok=True)
        terminal = subprocess.Popen(
            [*TERMINAL, f"{shown}; touch done; sleep 60"], cwd=home, env=where
        )
        until = time.monotonic() + PATIENCE
        while not done.exists() and time.monotonic() < until:
            time.sleep(0.2)
        time.sleep(0.5)
        subprocess.run(["import", "-window", "root", str(out)], env=where, check=True)
        terminal.kill()


def live(keys: list[tuple[float, str]], out: Path, home: Path) -> None:
    """The live view of the stand-in board, after some keys."""
    with screen(home) as where:
        command = "jetruler live --source demo"
        terminal = subprocess.Popen([*TERMINAL, command], cwd=home, env=where)
        time.sleep(4.0)
        for seconds, key in keys:
            if key:
                subprocess.run(["xdotool", "key", key], env=where, check=True)
            time.sleep(seconds)
        subprocess.run(["import", "-window", "root", str(out)], env=where, check=True)
        terminal.kill()


def page(html: Path, out: Path) -> None:
    """A page in a browser."""
    subprocess.run([*PAGE, f"--screenshot={out}", html.as_uri()], check=True, capture_output=True)


def notebook(home: Path) -> Path:
    """What a notebook shows of a channel, a worked solution and a budget."""
    bench = jr.load_bench(home / "bench.toml")
    bean = bench["bean"]
    cells: list[Any] = [bean, bean.ruler.trace(1880), jr.budget(bean, 1880)]
    shown = "<hr>".join(cell._repr_html_() for cell in cells)
    made = home / "notebook.html"
    made.write_text(f"<meta charset=utf-8><body style='font: 14px sans-serif'>{shown}", "utf-8")
    return made


def main() -> None:
    """Make them all."""
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder) / "roaster"
        jetruler = str(BIN / "jetruler")
        subprocess.run([jetruler, "demo", "-o", str(home)], check=True, capture_output=True)
        slipped = (home / "bench.toml").read_text("utf-8")
        for right, wrong in SLIPS.items():
            assert right in slipped, right
            slipped = slipped.replace(right, wrong)
        (home / "mistakes.toml").write_text(slipped, "utf-8")
        shutil.rmtree(home / "archive", ignore_errors=True)
        for name, command in DRAWN.items():
            out = str(OUT / f"{name}.png")
            subprocess.run([jetruler, *command.split(), "-o", out], cwd=home, check=True)
        for name, lines in TYPED.items():
            typed(lines, OUT / f"{name}.png", home)
        for name, keys in LIVE.items():
            live(keys, OUT / f"{name}.png", home)
        page(home / "report.html", OUT / "report.png")
        page(notebook(home), OUT / "notebook.png")
        print(f"{len(DRAWN) + len(TYPED) + len(LIVE) + 2} pictures in {OUT}")


if __name__ == "__main__":
    main()
