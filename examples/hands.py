"""Hands on a running bench, on the stand-in board: hold, set, feed, and all off."""

from tempfile import TemporaryDirectory

import jetruler as jr
from jetruler import demo

with TemporaryDirectory() as folder:
    home = demo.unpack(folder)
    with jr.Live(home / "bench.toml", "demo", events=home / "events.csv") as live:
        live.arm()  # the stand-in board takes the commands
        print("50 % of the knob is count", live.hold("damper", "50 %"))
        held = next(sample for sample in live if sample.flags["damper"] & jr.Flag.HELD)
        print(f"the flap then gets {held.commands['flap']:.0f} µs, or is on its way there")
        live.release("damper")
        live.set("blower", 120)
        live.all_off()  # every drive at its safe value, at once
        off = next(sample for sample in live if sample.by_hand.get("blower") == "gate_off")
        print("with its gate off the blower gets", off.commands["blower"])
    print((home / "events.csv").read_text())
