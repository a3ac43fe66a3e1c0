"""The made-up logs: a roast with real blemishes, calibration files, and the green-bean store."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[np.float64]
SEED = 20_260_314
RATE_HZ, MINUTES = 5, 14
VREF, TOP = 3.3, 4095
CHARGE_S, CRACK_S, DROP_S = 40.0, 620.0, 762.0
#: While the connector of ch0 is loose.
LOOSE_S = (412.0, 414.0)
#: When the logger wrote no value for ch3.
NO_CELL_S = (301.4, 301.6, 301.8)
#: Noise of ch6 in counts: too small to move it off its step.
LOW_NOISE = 0.12
KNOB_ENDS = (198.0, 3904.0)
NOTES = {CHARGE_S: "charge", CRACK_S: "first crack", DROP_S: "drop"}


def roast() -> tuple[Array, list[Array]]:
    """Time in s and the raw counts of ch0 … ch7, before the blemishes of the logger."""
    random = np.random.RandomState(SEED)  # its stream is frozen for good
    t = np.arange(MINUTES * 60 * RATE_HZ) / RATE_HZ
    bean = bean_temperature(t)
    knob = knob_fraction(t)
    pressure = 12 + 150 * (0.35 + 0.65 * knob) * blower(t)
    volts = [
        thermistor_volts(bean + 0.05 * random.standard_normal(t.size)),
        thermistor_volts(_lagged(bean, 9) + 0.6 + 0.05 * random.standard_normal(t.size)),
        None,
        exhaust_volts(exhaust_temperature(t, bean)),
        150 * (4e-3 + 16e-3 * pressure / 250) + 0.004 * random.standard_normal(t.size),
        rail_volts(t) * 10 / 43,
        0.35 + 2.3 * chaff_light(t),
        0.3 + 2.4 * hopper_grams(t) / 2000,
    ]
    counts: list[Array] = []
    for v in volts:
        ideal = KNOB_ENDS[0] + knob * (KNOB_ENDS[1] - KNOB_ENDS[0]) if v is None else v / VREF * TOP
        noise = LOW_NOISE if len(counts) == 6 else 1.4
        noisy = ideal + noise * random.standard_normal(t.size)
        counts.append(np.clip(np.round(noisy), 0, TOP))
    counts[7] *= 16  # its converter hands the result over left-scaled
    loose = (t >= LOOSE_S[0]) & (t < LOOSE_S[1])
    counts[0][loose] = TOP  # the thermistor is gone: the upper resistor pulls the pin up
    counts[2] = np.clip(counts[2], *KNOB_ENDS)
    return t, counts


def bean_temperature(t: Array) -> Array:
    """°C in the bean mass: charge, turning point, the long rise, the drop."""
    preheat = 196 + 0.04 * t
    since = np.maximum(t - CHARGE_S, 0)
    rise = 228 - 150 * np.exp(-since / 265)
    roasting = rise + (preheat[int(CHARGE_S * RATE_HZ)] - 78) * np.exp(-since / 11)
    dropped = 58 + 168 * np.exp(-np.maximum(t - DROP_S, 0) / 20)
    roasting = np.where(t < CHARGE_S, preheat, roasting)
    result: Array = np.where(t < DROP_S, roasting + 8 * np.exp(-(((t - 755) / 60) ** 2)), dropped)
    return result


def exhaust_temperature(t: Array, bean: Array) -> Array:
    """°C in the exhaust: it follows the beans, with a hump when the chaff comes off."""
    hump = 14 * np.exp(-(((t - CRACK_S) / 45) ** 2))
    result: Array = 0.55 * _lagged(bean, 60) + 62 + hump
    return result


def knob_fraction(t: Array) -> Array:
    """Damper knob from 0 to 1: turned quickly, left alone for minutes."""
    times = [0, 20, 22, 38, 43, 200, 203, 420, 424, 600, 602, 700, 703, 764, 767, 840]
    fraction = [0, 0, 1, 1, 0.18, 0.18, 0.35, 0.35, 0.62, 0.62, 0.8, 0.8, 0.45, 0.45, 1, 1]
    return np.interp(t, times, fraction)


def blower(t: Array) -> Array:
    """Blower speed from 0 to 1."""
    return np.interp(t, [0, 10, 14, 600, 606, 760, 764, 840], [0, 0, 0.8, 0.8, 1, 1, 0.9, 0.9])


def rail_volts(t: Array) -> Array:
    """The 12 V supply: it sags when the blower starts and, worse, when it speeds up."""
    starts = 1.1 * np.exp(-np.maximum(t - 10, 0) / 6) * (t >= 10)
    surge = 2.2 * np.exp(-np.maximum(t - 600, 0) / 25) * (t >= 600)
    return 12.06 - 0.15 * blower(t) - starts - surge


def chaff_light(t: Array) -> Array:
    """Light that reaches the sensor under the chaff tray, from 1 (empty) down to 0.1."""
    return np.interp(t, [0, CRACK_S - 60, CRACK_S + 40, DROP_S, 840], [1, 0.93, 0.3, 0.12, 0.1])


def hopper_grams(t: Array) -> Array:
    """Green beans in the hopper: filled, emptied into the drum at the charge."""
    return np.interp(t, [0, 8, 30, CHARGE_S, CHARGE_S + 4, 840], [0, 0, 1450, 1450, 3, 3])


def thermistor_volts(celsius: Array) -> Array:
    """100 kΩ at 25 °C, Beta 3950 K, in the lower leg under 4.7 kΩ."""
    ohms = 100e3 * np.exp(3950 * (1 / (celsius + 273.15) - 1 / 298.15))
    volts: Array = VREF * ohms / (ohms + 4700)
    return volts


def exhaust_volts(celsius: Array) -> Array:
    """Three coefficients (6.7e-4, 2.2e-4, 1e-7), in the lower leg under 2.2 kΩ."""
    grid = np.linspace(2, 16, 20001)  # ln R, fine enough to be read back to a thousandth of a count
    kelvin = 1 / (6.7e-4 + 2.2e-4 * grid + 1e-7 * grid**3)
    ohms = np.exp(np.interp(celsius + 273.15, kelvin[::-1], grid[::-1]))
    volts: Array = VREF * ohms / (ohms + 2200)
    return volts


def _lagged(values: Array, samples: int) -> Array:
    """What a slower sensor sees: an exponential lag."""
    out = np.empty_like(values)
    state = values[0]
    for i, value in enumerate(values):
        state += (value - state) / samples
        out[i] = state
    return out


def roast_csv() -> str:
    """The log as the logger wrote it."""
    t, counts = roast()
    lines = ["time_s," + ",".join(f"ch{i}" for i in range(8)) + ",note"]
    for i, time in enumerate(t):
        cells = [f"{values[i]:.0f}" for values in counts]
        if round(time, 1) in NO_CELL_S:
            cells[3] = ""
        lines.append(f"{time:.1f},{','.join(cells)},{NOTES.get(round(time, 1), '')}")
    return "\n".join(lines) + "\n"


SATURDAY_SEED = 20_260_321
#: The two beads as they are: ohms at 25 °C and Beta. Printed on both: 100 kΩ ± 3 %, 3950 K.
BEAN, BEAN2 = (101_400.0, 3938.0), (99_700.0, 3949.0)
NOISE = 1.4
#: The place of the mark at which somebody read 61 for 71 on the scale.
MISREAD = 4


def bead_counts(celsius: Array, bead: tuple[float, float]) -> Array:
    """Counts of a bead in the lower leg under 4.7 kΩ, before noise and rounding."""
    r25, beta = bead
    ohms = r25 * np.exp(beta * (1 / (celsius + 273.15) - 1 / 298.15))
    counts: Array = TOP * ohms / (ohms + 4700)
    return counts


def damper_marks() -> str:
    """The knob at seven places, its opening read off a scale in whole percent."""
    random = np.random.RandomState(SATURDAY_SEED)
    low, high = KNOB_ENDS
    lines = ["# damper knob against the scale on the flap", "raw (count),true (%)"]
    for i, fraction in enumerate((0, 17, 33, 50, 71, 84, 100)):
        inner = 0 < fraction < 100
        raw = low + (high - low) * fraction / 100 + (random.uniform(-12, 12) if inner else 0)
        lines.append(f"{raw:.0f},{61 if i == MISREAD else fraction}")
    return "\n".join(lines) + "\n"


def bath() -> str:
    """The first bead in a stirred bath: the mean of 200 readings beside a thermometer's."""
    random = np.random.RandomState(SATURDAY_SEED + 1)
    true = np.array([25.24, 60.05, 99.61, 150.32, 200.13])
    counts = bead_counts(true, BEAN) + NOISE / np.sqrt(200) * random.standard_normal(true.size)
    read = true + 0.05 * random.standard_normal(true.size)
    lines = ["# bean thermistor in a stirred bath, each the mean of 200 readings"]
    lines.append("raw (count),true (degC),u_true (K)")
    lines += [f"{c:.1f},{t:.2f},0.05" for c, t in zip(counts, read, strict=True)]
    return "\n".join(lines) + "\n"


def rest() -> str:
    """Two minutes of both beads in the warm drum at rest, with a thermometer every 5 s."""
    random = np.random.RandomState(SATURDAY_SEED + 2)
    t = np.arange(600) / 5
    celsius = 63.4 - 1.1 * t / 120
    columns = [
        np.round(bead_counts(celsius, bead) + NOISE * random.standard_normal(t.size))
        for bead in (BEAN, BEAN2)
    ]
    reference = celsius + 0.03 * random.standard_normal(t.size)
    lines = ["time_s,ch0,ch1,reference_degC"]
    for i, time in enumerate(t):
        read = f"{reference[i]:.2f}" if i % 25 == 0 else ""
        lines.append(f"{time:.1f},{columns[0][i]:.0f},{columns[1][i]:.0f},{read}")
    return "\n".join(lines) + "\n"


STORE_SEED = 20_261_126
SECONDS, STORE_RATE_HZ = 300, 2
#: A silo 90 cm deep, its echo sensor 8 cm above the brim; 62 kg of beans fill it.
DEPTH_CM, ABOVE_CM, FULL_G = 90.0, 8.0, 62_000.0
#: While beans are drawn, 120 g a second, and the conveyor shakes.
DRAWN_S = (60.0, 210.0)
#: While dust swallows the echo: the sensor then reads its largest distance.
NO_ECHO_S = (140.0, 142.0)
FARTHEST_CM = 250.0


def grams(t: Array) -> Array:
    """What is left in the silo."""
    drawn = np.clip(t, *DRAWN_S) - DRAWN_S[0]
    left: Array = 48_000.0 - 120.0 * drawn
    return left


def store_csv() -> str:
    """The log as the lab box wrote it."""
    random = np.random.RandomState(STORE_SEED)  # its stream is frozen for good
    t = np.arange(SECONDS * STORE_RATE_HZ) / STORE_RATE_HZ
    left, runs = grams(t), (t >= DRAWN_S[0]) & (t < DRAWN_S[1])
    scale = np.round((left + 12 * random.standard_normal(t.size)) / 5) * 5
    echo = ABOVE_CM + DEPTH_CM * (1 - left / FULL_G) + 0.15 * random.standard_normal(t.size)
    echo = np.round(echo * 5) / 5
    echo[(t >= NO_ECHO_S[0]) & (t < NO_ECHO_S[1])] = FARTHEST_CM
    supply = 5.02 - 0.31 * runs + 0.002 * random.standard_normal(t.size)
    shake = runs * 6.5 * np.sin(2 * np.pi * 0.07 * t) + 0.05 * random.standard_normal(t.size)
    warmth = 14.0 + 9.0 * np.sin(t / 130)
    ohms = 100e3 * np.exp(3950 * (1 / (warmth + 273.15) - 1 / 298.15))
    counts = TOP * ohms / (ohms + 100e3) + 1.4 * random.standard_normal(t.size)
    lines = ["time_s,scale_g,echo_cm,supply_V,shake,ch0"]
    for i, time in enumerate(t):
        cells = f"{scale[i]:.0f},{echo[i]:.1f},{supply[i]:.3f},{shake[i] + 0.0:.2f},{counts[i]:.0f}"
        lines.append(f"{time:.1f},{cells}".replace("-0.00", "0.00"))
    return "\n".join(lines) + "\n"


#: Every file made here.
MADE = {
    "roast.csv": roast_csv,
    "damper-marks.csv": damper_marks,
    "bath.csv": bath,
    "rest.csv": rest,
    "store.csv": store_csv,
}

if __name__ == "__main__":
    for name, make in MADE.items():
        (Path(sys.argv[1]) / name).write_text(make(), encoding="utf-8")
