"""Decisions without hardware: trips and drives on made-up readings, sample by sample."""

import numpy as np

import jetruler as jr

bean = jr.Channel(
    "bean",
    jr.Adc(bits=12) >> jr.Divider(known=4700, sensor="lower") >> jr.Beta(r0=100e3, beta=3950),
    column="ch0",
)
too_hot = jr.Trip("too-hot", (jr.Condition("bean", above=225, release=220),))
charge = jr.Trip("charge", (jr.Condition("bean", falls_by=30, within="5 s"),), stay="30 s")
fan = jr.Drive("fan", "bean", marks=((180, 60), (230, 255)), off=0, safe=255, slew=100)
bench = jr.Bench("Made up", {"bean": bean}, {t.name: t for t in (too_hot, charge)}, {"fan": fan})

# From 215 °C up to 227 °C and back to 90 °C as the beans drop in, once a second.
celsius = np.interp(np.arange(60), [0, 20, 30, 40], [215, 227, 222, 90])
counts = np.round(bean.ruler.inverse(celsius)).astype(np.int64)
counts[50:53] = 4095  # the connector comes loose

decisions = jr.Decisions(bench)
for second, count in enumerate(counts):
    reading = bean.read(np.array([count]))
    found = decisions.add([float(second)], {"bean": reading})
    for event in found.events:
        print(
            f"{second:2} s  {event.trip.name} {'on' if event.on else 'off'}  {reading.value[0]:.1f}"
        )
    if second % 10 == 0 or 49 <= second <= 53:
        safe = " (safe)" if found.safe["fan"][0] else ""
        print(f"{second:2} s  fan={found.drives['fan'][0]:.0f}{safe}")
