"""Many logs: one process, two jobs and a cluster of two workers give the same bytes."""

from __future__ import annotations

import contextlib
import json
import multiprocessing
import os
import shutil
import signal
import socket
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
import pytest

from jetruler import Bench, convert, convert_all, load_bench
from jetruler.benchfile.load import parse_bench
from jetruler.core.bench.channel import Channel
from jetruler.core.ruler.ruler import Ruler
from jetruler.errors import LogError
from jetruler.logs.workers import Outcome, is_many, planned
from tests.conftest import Cli, of_cluster
from tests.helpers.process_killer import Deadly
from tests.helpers.sizes import sizes, soak

SMOOTH = """
title = "Fleet"
[converter]
bits = 12
vref = 3.3
[channel.bean]
column = "ch0"
decimals = 2
smooth = { kind = "exponential", over = "3 s" }
[channel.damper]
column = "ch1"
laws = [
  { law = "line", marks = [[198, 0], [3904, 100]], unit = "%" },
  { law = "zones", edges = [40, 60], values = ["shut", "half", "open"], hysteresis = 3 },
]
[trip.hot]
any = [{ channel = "bean", above = 2, release = 1.8 }]
"""


@pytest.fixture(scope="session", params=sizes(3, 30), ids="{} days".format)
def month(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A synthetic month of two roasters: logs in three formats, in folders by roaster."""
    home = tmp_path_factory.mktemp("month")
    (home / "bench.toml").write_text(SMOOTH)
    rng = np.random.default_rng(11)
    for roaster in ("east", "west"):
        (home / "logs" / roaster).mkdir(parents=True)
        for day in range(1, request.param + 1):
            n = int(rng.integers(300, 900))
            wave = 2000 + 1500 * np.sin(np.arange(n) / 90 + day) + rng.normal(0, 40, n)
            ch0 = np.clip(wave, 0, 4095).astype(np.int16)
            ch1 = rng.integers(0, 4096, n).astype(np.int16)
            table = pa.table({"time_s": np.arange(n) / 5, "ch0": ch0, "ch1": ch1})
            stem = home / "logs" / roaster / f"day{day:02}"
            if day % 3 == 0:
                pq.write_table(table, stem.with_suffix(".parquet"))
            elif day % 3 == 1:
                stem.with_suffix(".csv").write_bytes(_csv(table))
            else:
                lines = "".join(json.dumps(row) + "\n" for row in table.to_pylist())
                stem.with_suffix(".jsonl").write_text(lines)
    return home


def _csv(table: pa.Table) -> bytes:
    rows = [
        "time_s,ch0,ch1",
        *(f"{t},{a},{b}" for t, a, b in zip(*table.to_pydict().values(), strict=True)),
    ]
    return ("\n".join(rows) + "\n").encode()


def tree(folder: Path) -> dict[str, bytes]:
    """Every file below a folder, with its bytes; what says how they were made is none of them."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and path.name != ".jetruler-made.json"
    }


@pytest.fixture(scope="session")
def alone(month: Path) -> dict[str, bytes]:
    """The month, log by log through `convert`, on one thread."""
    bench = load_bench(month / "bench.toml")
    out = month / "alone"
    for log in sorted((month / "logs").rglob("*.*")):
        place = log.relative_to(month / "logs")
        for folder in (out / "values", out / "events"):
            (folder / place).parent.mkdir(parents=True, exist_ok=True)
        events = (out / "events" / place).with_suffix(".csv")
        convert(log, bench, out / "values" / place, events=events, threads=1)
    return tree(out)


def worker_pids(address: str) -> list[int]:
    import distributed

    with distributed.Client(address) as client:
        return list(client.run(os.getpid).values())


def logs_of(month: Path) -> int:
    return len([log for log in (month / "logs").rglob("*") if log.is_file()])


def month_by(month: Path, out: Path, **options: object) -> dict[str, bytes]:
    fleet = convert_all(
        month / "logs",
        load_bench(month / "bench.toml"),
        out / "values",
        events=out / "events",
        **options,  # type: ignore[arg-type]
    )
    assert (len(fleet.done), fleet.failed, fleet.skipped) == (logs_of(month), {}, [])
    return tree(out)


def killing(pids: Callable[[], list[int]]) -> Callable[[int, int, Outcome], None]:
    """Kills one worker when the first log is done."""
    done: list[Outcome] = []

    def progress(read: int, total: int, outcome: Outcome) -> None:
        if not done:
            os.kill(pids()[0], signal.SIGKILL)
        done.append(outcome)

    return progress


@soak
def test_one_process_and_two_jobs_give_the_same_bytes(
    month: Path, alone: dict[str, bytes], tmp_path: Path
) -> None:
    assert len(alone) == 2 * logs_of(month)
    assert month_by(month, tmp_path / "one", jobs=1) == alone
    assert month_by(month, tmp_path / "two", jobs=2) == alone


@soak
def test_a_job_that_is_killed_is_replaced(
    month: Path, alone: dict[str, bytes], tmp_path: Path
) -> None:
    def pids() -> list[int]:
        return [child.pid or 0 for child in multiprocessing.active_children()]

    assert month_by(month, tmp_path / "out", jobs=2, progress=killing(pids)) == alone


@soak
@of_cluster
def test_a_cluster_gives_the_same_bytes(
    month: Path, alone: dict[str, bytes], tmp_path: Path, cluster: str
) -> None:
    assert month_by(month, tmp_path / "whole", cluster=cluster) == alone


@soak
@of_cluster
def test_a_cluster_gives_the_same_bytes_though_a_worker_is_killed(
    month: Path, alone: dict[str, bytes], tmp_path: Path, cluster: str
) -> None:
    pids = worker_pids(cluster)
    progress = killing(lambda: pids)
    assert month_by(month, tmp_path / "out", cluster=cluster, progress=progress) == alone


@soak
def test_a_local_cluster(month: Path, alone: dict[str, bytes], tmp_path: Path, cli: Cli) -> None:
    pattern = str(month / "logs" / "**" / "*.parquet")
    out, bench = tmp_path / "out", str(month / "bench.toml")
    done = cli("convert", pattern, "-b", bench, "-o", str(out), "--cluster", "local", "--jobs", "2")
    assert done.returncode == 0, done.stderr
    wanted = {
        k[7:]: v for k, v in alone.items() if k.startswith("values") and k.endswith(".parquet")
    }
    assert tree(out) == wanted
    assert len(wanted) == logs_of(month) / 3


@soak
@of_cluster
def test_local_asks_for_as_many_workers_as_jobs(
    cli: Cli, home: Path, cluster: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The session's cluster stands in for the one that would be started."""
    asked: list[dict[str, object]] = []

    def started(**options: object) -> Any:
        asked.append(options)
        return contextlib.nullcontext(cluster)

    monkeypatch.setattr("distributed.LocalCluster", started)
    words = "convert r*st.csv -o out --only bean --cluster local --jobs 1"
    done = cli(*words.split())
    assert done.returncode == 0, done.stderr
    assert [(o["n_workers"], o["processes"]) for o in asked] == [(1, True)]
    assert sorted(tree(home / "out")) == ["rest.csv", "roast.csv"]


@soak
def test_a_log_that_kills_its_worker_fails_alone(tmp_path: Path) -> None:
    bench = Bench("deadly", {"a": Channel("a", Ruler((Deadly(),)), "ch0")})
    for name, count in (("deadly", 666), ("good", 1)):
        (tmp_path / f"{name}.csv").write_text(f"ch0\n{count}\n")
    fleet = convert_all(tmp_path, bench, tmp_path / "out", jobs=2)
    assert [log.stem for log in fleet.failed] == ["deadly"]
    assert "the worker at this log died, twice (signal SIGKILL)" in str(fleet.failed)
    assert list(tree(tmp_path / "out")) == ["good.csv"]


ADDRESSES = {
    "nonsense": "tcp://host:port or local",
    "tcp://127.0.0.1": "tcp://host:port or local",
    "tcp://127.0.0.1:1": "expected a scheduler at",
    "tcp://nowhere.invalid:8786": "expected a scheduler at",
}


@pytest.mark.parametrize(("address", "told"), ADDRESSES.items())
def test_nobody_answers(cli: Cli, home: Path, address: str, told: str) -> None:
    done = cli("convert", ".", "-o", "out/", "--cluster", address)
    assert done.returncode == 2
    assert address in done.stderr
    assert told in done.stderr
    assert not (home / "out").exists()


@pytest.mark.parametrize(
    "greeting", [b"", b"HTTP/1.1 400 Bad Request\r\n\r\n" * 9], ids=["nothing", "http"]
)
def test_what_answers_is_no_scheduler(
    cli: Cli, greeting: bytes, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("jetruler.logs.workers.PATIENCE", 1)
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]

        def greet() -> None:
            with server.accept()[0] as caller, contextlib.suppress(OSError):
                caller.sendall(greeting)
                caller.recv(1)

        thread = threading.Thread(target=greet)
        thread.start()
        done = cli("convert", ".", "-o", "out/", "--cluster", f"tcp://127.0.0.1:{port}")
        thread.join()
    assert done.returncode == 2
    assert "is not a Dask scheduler" in done.stderr


@of_cluster
def test_a_scheduler_without_workers(home: Path) -> None:
    import distributed

    bench = load_bench(home / "bench.toml")
    with (
        distributed.LocalCluster(n_workers=0, dashboard_address="127.0.0.1:0") as cluster,
        pytest.raises(LogError, match=r"expected workers at .*, found none"),
    ):
        convert_all(home, bench, home / "out", cluster=cluster.scheduler_address)


@soak
def test_a_failed_log_stops_no_other_and_is_named(cli: Cli, home: Path) -> None:
    logs = home / "logs"
    (logs / "deep" / "er").mkdir(parents=True)
    shutil.copy(home / "roast.csv", logs / "deep" / "er" / "good.csv")
    lines = (home / "roast.csv").read_text().splitlines(keepends=True)
    (logs / "other.csv").write_text("a,b\n1,2\n")
    (logs / "cut.parquet").write_bytes(b"PAR1 and no more")
    (logs / "head.csv").write_text(lines[0])
    (logs / "notes.txt").write_text("no log")
    (logs / ".hidden.csv").write_text("no log")
    for jobs in ("1", "2"):
        done = cli("convert", "logs", "-o", f"out{jobs}", "--jobs", jobs)
        assert done.returncode == 1
        assert "3 logs failed:" in done.stderr
        for told in (
            "other.csv: there is no column 'ch0'; it has: a, b",
            "cut.parquet: this Parquet file is damaged or cut short",
            "head.csv: expected rows below the header, found none",
        ):
            assert told in done.stderr
        assert list(tree(home / f"out{jobs}")) == ["deep/er/good.csv"]
    shown = cli("convert", "logs", "-o", "out3", "--json")
    told = json.loads(shown.stdout)
    assert shown.returncode == 1
    assert len(told["failed"]) == 3
    assert told["summary"]["rows"] == len(lines) - 1


def test_a_log_that_goes_away_and_a_disk_that_is_full(
    month: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    logs = tmp_path / "logs"
    shutil.copytree(month / "logs" / "east", logs)
    gone = max(logs.iterdir())

    def remove(read: int, total: int, outcome: Outcome) -> None:
        gone.unlink(missing_ok=True)

    bench = load_bench(month / "bench.toml")
    fleet = convert_all(logs, bench, tmp_path / "out", jobs=1, progress=remove)
    assert fleet.failed == {gone: f"{gone}: expected a log, found no such file"}
    assert len(fleet.done) == logs_of(month) / 2 - 1
    full = convert_all([logs / "day01.csv"], bench, "/dev/full/x", jobs=1)
    assert "cannot be written" in str(full.failed)


def test_resume_leaves_out_what_was_made_of_the_same(cli: Cli, home: Path) -> None:
    (home / "logs").mkdir()
    for name in ("a.csv", "b.csv"):
        shutil.copy(home / "roast.csv", home / "logs" / name)
    resume = ("convert", "logs", "-o", "out", "--resume", "--jobs", "1")
    assert "of 2 logs in out\n" in cli(*resume).stderr
    assert "0 logs in out, 2 skipped" in cli(*resume).stderr
    assert "0 logs in out, 2 skipped" in cli(*resume, "--threads", "2").stderr  # the same bytes
    later = time.time() + 3600
    os.utime(home / "logs" / "b.csv", (later, later))
    assert "of 1 log in out, 1 skipped" in cli(*resume).stderr
    (home / "out" / "a.csv").unlink()
    assert "of 1 log in out, 1 skipped" in cli(*resume).stderr
    other = (*resume, "--only", "bean")  # other options, other results
    assert "of 2 logs in out\n" in cli(*other).stderr
    assert "0 logs in out, 2 skipped" in cli(*other).stderr
    (home / "bench.toml").write_text((home / "bench.toml").read_text() + "# changed\n")
    assert "of 2 logs in out\n" in cli(*other).stderr
    (home / "out" / ".jetruler-made.json").write_text("spoilt")
    assert "of 2 logs in out\n" in cli(*other).stderr


@pytest.mark.parametrize(
    ("given", "wanted"),
    [
        (["logs"], ["a/x.csv", "a/x.jsonl.gz", "b/c/y.parquet"]),
        (["logs/a", "logs/b"], ["a/x.csv", "a/x.jsonl.gz", "b/c/y.parquet"]),
        (["logs/**/*.parquet"], ["b/c/y.parquet"]),
        (["logs/*/x.*"], ["a/x.csv", "a/x.jsonl.gz"]),
        (["logs/a/x.csv"], ["x.csv"]),
        (
            ["logs/a/x.csv", "logs/b/c/y.parquet", "logs/a"],
            ["a/x.csv", "a/x.jsonl.gz", "b/c/y.parquet"],
        ),
    ],
)
def test_results_stand_as_the_logs_do(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, given: list[str], wanted: list[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    for name in ("logs/a/x.csv", "logs/a/x.jsonl.gz", "logs/b/c/y.parquet", "logs/out/old.csv"):
        Path(name).parent.mkdir(parents=True, exist_ok=True)
        Path(name).touch()
    tasks = planned(given, "logs/out")
    assert [str(task.out.relative_to(tmp_path / "logs" / "out")) for task in tasks] == wanted
    with pytest.raises(LogError, match="has the same name as"):
        planned(["logs/a"], "out", out_kind="parquet")
    if wanted == ["b/c/y.parquet"]:
        assert planned(given, "out", out_kind="csv")[0].out == tmp_path / "out/b/c/y.csv"


@pytest.mark.parametrize(
    ("args", "told"),
    [
        (("none*.csv", "-o", "out/"), "expected a pattern that names files, found none"),
        (("empty", "-o", "out/"), "expected logs in this folder"),
        (("roast.csv", "gone.csv", "-o", "out/"), "gone.csv: expected a log, found no such file"),
        (
            ("roast.csv", "roast.csv", "-o", "bench.toml"),
            "expected a folder for the results of many logs",
        ),
        (("roast.csv", "bath.csv", "-o", "out.csv"), "out.csv/ makes it a folder's"),
        (("*.csv", "-o", "out/", "--events", "out.csv"), "out.csv/ makes it a folder's"),
        (("*.csv",), "-o: expected a folder for the results of many logs, found none"),
        (("roast.csv", "-o", "out.csv", "--resume"), "expected many logs and a folder as -o"),
        (("roast.csv", "-o", "out/", "--jobs", "0"), "--jobs"),
        (
            ("*.csv", "-o", "out/", "--only", "mars"),
            "expected a channel of the bench, found 'mars'",
        ),
    ],
)
def test_bad_plans_are_refused(cli: Cli, home: Path, args: tuple[str, ...], told: str) -> None:
    (home / "empty").mkdir()
    done = cli("convert", *args)
    assert done.returncode == 2
    assert told in done.stderr
    assert not list(home.glob("out*"))
    assert "Traceback" not in done.stderr


def test_mixed_schemas_are_told(tmp_path: Path) -> None:
    bench = parse_bench(SMOOTH)
    for name, times, counts in [
        ("a", [0, 1, 2], [1, 2, 3]),
        ("b", [0.0, 0.5, 1.0], [1.0, None, 3.0]),
        ("c", ["0", "1", "2"], ["1", "x", "3"]),
    ]:
        table = pa.table({"time_s": times, "ch0": counts, "ch1": [7, 8, 9]})
        pq.write_table(table, tmp_path / f"{name}.parquet")
    fleet = convert_all(tmp_path, bench, tmp_path / "out", jobs=1)
    assert fleet.failed == {}
    kinds = {kind: [p.stem for p in logs] for kind, logs in fleet.mixed["time_s"].items()}
    assert kinds == {"int64": ["a"], "double": ["b"], "string": ["c"]}
    assert fleet.summary.channels["bean"].empty == 1
    assert fleet.summary.channels["bean"].unreadable == 1


def test_names_that_stand_for_many(tmp_path: Path) -> None:
    (tmp_path / "odd[1].csv").touch()
    assert not is_many(tmp_path / "odd[1].csv", "-")
    assert not is_many("-", "-")
    assert is_many(tmp_path, "-")
    assert is_many("x*.csv", "-")
    assert is_many("x.csv", tmp_path)
