"""`jetruler demo`: the whole tour on the bundled data, into a folder."""

from __future__ import annotations

import gzip
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import click

from ..core.channel import Bench
from ..core.errors import JetRulerError


@click.command()
@click.argument("folder", default="jetruler-demo")
def command(folder: str) -> None:
    """Make FOLDER (default jetruler-demo) with the demo's files and every output of the tour."""
    from .. import demo
    from ..bench.load import load_bench

    home = Path(folder)
    if home.exists() and (not home.is_dir() or any(home.iterdir())):
        raise JetRulerError(f"{folder}: this is there already; name a new or empty folder")
    home.mkdir(parents=True, exist_ok=True)
    for name in demo.FILES:
        (home / name).write_bytes(demo.read(name))
    for name, shows in demo.SHOWS.items():
        click.echo(f"{name}: {shows}")
    bench = load_bench(home / "bench.toml")
    for step in TOUR:
        click.echo()
        step(home, bench)
    click.echo(f"\nAll of it is in {folder}. Go there and try: jetruler explain damper --for 50")


def _looked(home: Path, bench: Bench) -> None:
    from ..logs.look import look
    from .look import show_look
    from .pictures import draw_log_file, draw_spread_file

    click.echo("$ jetruler look roast.csv -b bench.toml")
    show_look(look(home / "roast.csv", bench))
    click.echo("\n$ jetruler draw spread roast.csv bean damper rail tray")
    names = ("bean", "damper", "rail", "tray")
    draw_spread_file(home / "roast.csv", names, bench, None, home / "spread-roast.png")
    click.echo("spread-roast.png: how often each count came up, with the ends and the rails")
    click.echo("\n$ jetruler draw log roast.csv bean damper exhaust rail tray")
    channels = [bench[name] for name in ("bean", "damper", "exhaust", "rail", "tray")]
    draw_log_file(home / "roast.csv", channels, None, home / "log-roast.png")
    click.echo("log-roast.png: values in blue, counts in grey, flagged stretches in red")


def _converted(home: Path, bench: Bench) -> None:
    from ..logs.convert import convert
    from .convert import show_summary

    click.echo("$ jetruler convert roast.csv -o out.csv")
    out = home / "out.csv"
    summary = convert(home / "roast.csv", bench, out)
    show_summary(summary)
    click.echo(f"{summary.rows} rows in {out}", err=True)
    click.echo("out.csv: the roast in engineering values; the loose connector of the bean sensor")
    click.echo("shows as bean:high_rail in its column `flags`, the sagging supply as rail:below")


def _decided(home: Path, bench: Bench) -> None:
    from ..logs.convert import convert

    click.echo("$ jetruler convert roast.csv -o decided.csv --events events.csv")
    events = home / "events.csv"
    convert(home / "roast.csv", bench, home / "decided.csv", events=events)
    click.echo(events.read_text("utf-8").rstrip())
    click.echo("events.csv: the trips of the bench: beans dropped in, the loose connector, too hot")
    click.echo("decided.csv: the roast once more")
    click.echo('\n$ jetruler live --source demo --for "3 s"')
    script = [sys.executable, "-m", "jetruler", "live", "--source", "demo", "--for", "3 s"]
    done = subprocess.run(script, cwd=home, capture_output=True, check=True)
    (home / "live.csv").write_bytes(done.stdout)
    click.echo(done.stderr.decode().rstrip())
    click.echo("live.csv: three seconds of the stand-in board, with trips and drives")


def _archived(home: Path, bench: Bench) -> None:
    logs = home / "logs" / "week1"
    logs.mkdir(parents=True, exist_ok=True)
    roast = (home / "roast.csv").read_bytes()
    (logs / "monday.csv").write_bytes(roast)
    packed = gzip.compress(roast, mtime=0)
    (logs / "tuesday.csv.gz").write_bytes(packed)
    (logs / "wednesday.csv.gz").write_bytes(packed[: len(packed) // 2])
    words = ["convert", "logs", "-o", "archive", "--to", "parquet", "--jobs", "2"]
    click.echo(f"$ jetruler {' '.join(words)}")
    script = [sys.executable, "-m", "jetruler", *words]
    done = subprocess.run(script, cwd=home, capture_output=True, check=False)
    click.echo(done.stderr.decode().rstrip())
    click.echo("logs: a week of roasts; Wednesday's log broke off, which stops none of the others")
    click.echo("archive: the others as Parquet, with units in the columns' metadata")


def _explained(home: Path, bench: Bench) -> None:
    from .explain import show

    bean = bench["bean"]
    click.echo("$ jetruler explain bean --at 1880")
    show(bean, bean.ruler.trace(1880), back=False)
    click.echo("\n$ jetruler explain bean --for 225")
    show(bean, bean.ruler.trace_back(225), back=True)


def _drawn(home: Path, bench: Bench) -> None:
    from .pictures import draw_curve_file, draw_ruler_file, draw_stages_file

    click.echo("$ jetruler draw ruler bean --at 1880")
    draw_ruler_file(bench["bean"], 1880, home / "ruler-bean.png")
    click.echo(
        "ruler-bean.png: even counts on one edge, °C on the other, uneven because the law bends"
    )
    click.echo("\n$ jetruler draw ruler damper --at 1880")
    draw_ruler_file(bench["damper"], 1880, home / "ruler-damper.png")
    click.echo("ruler-damper.png: 0 and 100 % stand where the knob's travel really ends")
    click.echo("\n$ jetruler draw curve bean exhaust draught")
    channels = [bench[name] for name in ("bean", "exhaust", "draught")]
    draw_curve_file(channels, None, home / "curve-bean-exhaust-draught.png")
    click.echo("curve-bean-exhaust-draught.png: value against counts, and what one count is worth")
    click.echo("\n$ jetruler draw stages draught --at 1880")
    draw_stages_file(bench["draught"], 1880, home / "stages-draught.png")
    click.echo("stages-draught.png: the chain as stacked number lines, one reading traced through")


def _calibrated(home: Path, bench: Bench) -> None:
    from ..bench.marks import read_marks
    from ..core.fit.place import calibrate
    from .compare import Wanted, compared
    from .compare import show as show_comparison
    from .fit import show as show_fit
    from .pictures import draw_compare_file, draw_fit_file

    wanted = Wanted("bean2", str(home / "rest.csv"), None, None, None, None, ())
    click.echo("$ jetruler compare bean bean2 --log rest.csv")
    found = compared(bench, bench["bean"], wanted, None)
    show_comparison(found, bench["bean"])
    click.echo("\n$ jetruler draw compare bean bean2 --log rest.csv")
    draw_compare_file(found, home / "compare-bean-bean2.png")
    click.echo("compare-bean-bean2.png: differences against the mean, with bias and limits")
    click.echo("\n$ jetruler fit bean --marks bath.csv")
    fitted = calibrate(bench["bean"], read_marks(home / "bath.csv"))
    show_fit(fitted)
    click.echo("\n$ jetruler draw fit bean --marks bath.csv")
    draw_fit_file(fitted, home / "fit-bean.png")
    click.echo("fit-bean.png: the marks on the fitted curve, and what is left of the errors")


def _trusted(home: Path, bench: Bench) -> None:
    from ..logs.convert import convert
    from .budget import budget_text
    from .pictures import draw_budget_file

    click.echo("$ jetruler explain bean --at 400 --budget")
    click.echo(budget_text(bench["bean"], 400, None, None, None))
    click.echo("\n$ jetruler draw budget bean --at 3912 --at 400")
    draw_budget_file(bench["bean"], (3912, 400), home / "budget-bean.png")
    click.echo(
        "budget-bean.png: which part makes the reading uncertain, in the cold and in the heat"
    )
    click.echo("\n$ jetruler convert roast.csv --uncertainty -o trusted.csv")
    convert(home / "roast.csv", bench, home / "trusted.csv", uncertainty=True)
    click.echo("trusted.csv: the roast with ± at 95 % behind every value")


def _chosen(home: Path, bench: Bench) -> None:
    from ..core.check.rules import check
    from ..core.choose.resistor import choose_resistor
    from .check import show as show_findings
    from .pictures import draw_choose_file

    click.echo("$ jetruler choose resistor bean --from 20 --to 240")
    choice = choose_resistor(bench["bean"], 20, 240)
    click.echo(choice)
    click.echo("\n$ jetruler draw choose bean --from 20 --to 240")
    draw_choose_file(bench["bean"], choice, home / "choose-bean.png")
    click.echo(
        "choose-bean.png: counts and steps over the range, for the best and the present part"
    )
    click.echo("\n$ jetruler check")
    show_findings(check(bench), "bench.toml", len(bench.channels))


def _exported(home: Path, bench: Bench) -> None:
    for target, name in (("c", "roaster.h"), ("python", "roaster.py"), ("st", "roaster.st")):
        click.echo(f"$ jetruler export --all --to {target} --interval 0.2 --selftest -o {name}")
        script = [sys.executable, "-m", "jetruler", "export", "--all", "--to", target]
        script += ["--interval", "0.2", "--selftest", "-o", name]
        done = subprocess.run(script, cwd=home, capture_output=True, check=True)
    click.echo(done.stderr.decode().rstrip())
    click.echo("roaster.h, roaster.py, roaster.st: the whole bench as firmware, proven over every")
    click.echo("count; what was chosen for each channel, and its worst error, stands above it")


#: The tour, in the order people work.
TOUR: tuple[Callable[[Path, Bench], None], ...] = (
    _looked,
    _converted,
    _explained,
    _drawn,
    _calibrated,
    _trusted,
    _chosen,
    _decided,
    _archived,
    _exported,
)
