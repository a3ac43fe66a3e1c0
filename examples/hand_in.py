"""A report to hand in: the bean channel of the roaster bench, with marks and a better part."""

from tempfile import TemporaryDirectory

import jetruler as jr
from jetruler import demo

with TemporaryDirectory() as folder:
    home = demo.unpack(folder)
    bench = jr.load_bench(home / "bench.toml")
    (page,) = jr.report(
        bench,
        home / "bean.html",
        channels=["bean"],
        at=[1880, 400],
        marks={"bean": jr.read_marks(home / "bath.csv")},
        changes={"r0": "100 kohm ± 1 %"},
    )
    print(page.name, page.stat().st_size // 1000, "kB")
    print(jr.what_if(bench["bean"], 400, {"r0": "100 kohm ± 1 %"}).headline)
    print(jr.naive(bench["damper"], 1880, "int16"))
