"""`jetruler choose`: the resistor, the reference, the amplifier, how many readings to average."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ..core.bench.channel import Channel
from ..core.error_types import JetRulerError, UnitError
from ..core.laws.preferred import DECADES
from ..core.result import Result
from ..core.ruler.quantity import amount
from .options import Given, bench_option, channel_of, form_of, load, read_value, saying_log_options
from .streams import show, show_json

json_option = click.option("--json", "as_json", is_flag=True, help="Print JSON, for programs.")
series_option = click.option(
    "--series", type=click.Choice(list(DECADES)), default="E24", show_default=True
)
from_option = click.option("--from", "low", metavar="VALUE", help="Low end of the range.")
to_option = click.option("--to", "high", metavar="VALUE", help="High end of the range.")


@click.group(name="choose")
def choose_command() -> None:
    """Choose a part: the best first, with the present part and the optimum for comparison."""


def resistor_options(choose_command: Any) -> Any:
    """What a resistor is chosen by."""
    for option in (
        click.option(
            "--most-heating", type=float, metavar="K", help="Largest self-heating of the sensor."
        ),
        click.option(
            "--most-current", metavar="A", help='Largest current in the divider, as in "0.5 mA".'
        ),
        click.option("--leg", type=click.Choice(["upper", "lower"]), help="Leg of the sensor."),
        click.option(
            "--between", metavar="OHMS:OHMS", help='Smallest and largest resistor, as in "1k:100k".'
        ),
        series_option,
        click.option("--at", metavar="VALUE", help="The value where resolution matters most."),
        click.option(
            "--aim",
            type=click.Choice(["counts", "resolution", "at", "straight"]),
            help="What to optimise: most counts, the worst resolution (default), the resolution "
            "--at a value, or straightness.",
        ),
        click.option("--unit", metavar="UNIT", help="Unit of the values, if not the channel's."),
        click.option(
            "--seen",
            multiple=True,
            metavar="NAME=RAW",
            help="Instead of a range: a raw value that you saw (two or more).",
        ),
        to_option,
        from_option,
    ):
        choose_command = option(choose_command)
    return choose_command


@choose_command.command()
@click.argument("channel")
@resistor_options
@json_option
@bench_option
def resistor(channel: str, as_json: bool, bench_path: str, **options: Any) -> None:
    """The fixed resistor of CHANNEL's divider that suits its sensor best.

    \b
    jetruler choose resistor bean --from 20 --to 240
    jetruler choose resistor bean --from 20 --to 240 --at 200 --series E96
    jetruler choose resistor bean --seen green=180 --seen roasted=640
    """
    choice = chosen_resistor(channel_of(load(bench_path), channel), options)
    _shown(choice, as_json)


def chosen_resistor(channel: Channel, options: dict[str, Any]) -> Any:
    """The choice that the options ask for."""
    from ..core.choose.resistor import choose_resistor

    unit = options["unit"]

    def value(option: str, text: str) -> float:
        return _in_unit(option, text, unit, channel)

    current = options["most_current"]
    at, seen = options["at"], {}
    for text in options["seen"]:
        name, equals, raw = text.partition("=")
        if not equals or not name.strip() or not raw.strip():
            raise JetRulerError(f"--seen: expected NAME=RAW, as in green=180, found {text!r}")
        seen[name.strip()] = raw.strip()
    ends = {"--from": options["low"], "--to": options["high"]}
    given = [value(option, end) for option, end in ends.items() if end is not None]
    if bool(seen) == bool(given) or len(given) == 1:
        raise JetRulerError("choose resistor: expected --from and --to, or --seen twice")
    return choose_resistor(
        channel,
        *(given or (None, None)),
        seen=seen or None,
        aim=options["aim"],
        at=None if at is None else value("--at", at),
        series=options["series"],
        between=_pair("--between", options["between"], "ohm") if options["between"] else None,
        leg=options["leg"],
        most_current=None if current is None else read_value("--most-current", current, "A"),
        most_heating=options["most_heating"],
    )


@choose_command.command()
@click.argument("channel", required=False)
@click.option("--from", "low", metavar="VALUE", help="Low end of CHANNEL's range.")
@click.option("--to", "high", metavar="VALUE", help="High end of CHANNEL's range.")
@click.option(
    "--volts", metavar="V:V", help='Instead of CHANNEL: the signal at the pin, as in "0.3:2.1".'
)
@click.option(
    "--of",
    "of",
    multiple=True,
    required=True,
    metavar="V",
    help="A reference voltage to try (repeatable).",
)
@click.option(
    "--bits", type=click.IntRange(1, 32), help="Bits of the converter; default the bench's, or 12."
)
@json_option
@bench_option
def reference(
    channel: str | None,
    low: str | None,
    high: str | None,
    volts: str | None,
    of: tuple[str, ...],
    bits: int | None,
    as_json: bool,
    bench_path: str,
) -> None:
    """Which reference voltage uses most of the range without saturating, with the margin.

    \b
    jetruler choose reference --volts 0.3:2.1 --of 1.1 --of 2.5 --of 3.3
    jetruler choose reference draught --from 0 --to 250 --of 2.5 --of 3.3
    """
    from ..core.choose.signal_range import choose_reference, pin_volts

    if (volts is None) == (channel is None):
        raise JetRulerError(
            "choose reference: expected either CHANNEL with --from and --to, or --volts"
        )
    if volts is not None:
        ends = _pair("--volts", volts, "V")
        bits = bits or _bits_of(bench_path)
    else:
        chosen = channel_of(load(bench_path), str(channel))
        if low is None or high is None:
            raise JetRulerError(
                "choose reference: expected --from and --to, the range of the channel's values"
            )
        first, last = (
            read_value("--from", low, chosen.unit),
            read_value("--to", high, chosen.unit),
        )
        ends = pin_volts(chosen, first, last)
        bits = bits or (chosen.chain.converter.bits if chosen.chain.converter else None)
    voltages = [read_value("--of", text, "V") for text in of]
    _shown(choose_reference(*ends, voltages, bits=bits or 12), as_json)


def _bits_of(bench_path: str) -> int | None:
    """The bits of the bench's converters, if there is a bench and they all have as many."""
    if not Path(bench_path).is_file():
        return None
    converters = [c.chain.converter for c in load(bench_path).channels.values()]
    known = {one.bits for one in converters if one is not None}
    return known.pop() if len(known) == 1 else None


@choose_command.command()
@click.option("--volts", required=True, metavar="V:V", help='The signal range, as in "0:0.05".')
@click.option("--vref", required=True, metavar="V", help="The converter's reference.")
@click.option(
    "--fraction", type=float, default=0.9, show_default=True, help="Fraction of the range to use."
)
@series_option
@click.option("--between", metavar="OHMS:OHMS", default="1k:100k", show_default=True)
@json_option
def amplifier(
    volts: str, vref: str, fraction: float, series: str, between: str, as_json: bool
) -> None:
    """Gain, offset and resistors that spread a small signal over the range.

    \b
    jetruler choose amplifier --volts 0:0.05 --vref 3.3
    """
    from ..core.choose.signal_range import choose_amplifier

    low, high = _pair("--volts", volts, "V")
    ends, most = _pair("--between", between, "ohm"), read_value("--vref", vref, "V")
    choice = choose_amplifier(low, high, most, fraction=fraction, series=series, between=ends)
    _shown(choice, as_json)


@choose_command.command()
@click.argument("channel")
@click.option(
    "--to", "target", required=True, metavar="X", help="Standard deviation that you want."
)
@click.option("--at", required=True, metavar="VALUE", help="The value at which you want it.")
@click.option("--noise", metavar="RAW", help="Noise of one reading; or use --log.")
@click.option("--log", "log_path", metavar="LOG", help="A log from which to take the noise.")
@json_option
@saying_log_options
@bench_option
def averaging(
    channel: str,
    target: str,
    at: str,
    noise: str | None,
    log_path: str | None,
    as_json: bool,
    given: Given,
    bench_path: str,
) -> None:
    """How many readings of CHANNEL to average to hold a target.

    \b
    jetruler choose averaging bean --at 220 --to 0.05 --log roast.csv
    """
    from ..core.choose.averaging import choose_averaging

    bench = load(bench_path)
    chosen = channel_of(bench, channel)
    interval = None
    noise_source: Any = chosen.raw_difference("noise", noise)
    if log_path is not None and noise is None:
        from ..logs.pairs import read_raw

        found = read_raw(log_path, chosen, form=form_of(given, bench))
        noise_source, interval = found.values, found.interval
    value = read_value("--at", at, chosen.unit)
    goal = amount("to", target, chosen.unit, difference=True)
    _shown(choose_averaging(chosen, goal, at=value, noise=noise_source, interval=interval), as_json)


def _in_unit(option: str, text: str, unit: str | None, channel: Channel) -> float:
    """A value in the channel's unit, from one in another unit if that is said."""
    value = read_value(option, text, unit or channel.unit)
    if unit is None or channel.unit is None:
        return value
    from ..core.ruler.units import factor_and_offset

    try:
        factor, offset = factor_and_offset(unit, channel.unit)
    except UnitError as error:
        raise JetRulerError(f"--unit: {error}") from None
    return value * factor + offset


def _pair(option: str, text: str, unit: str) -> tuple[float, float]:
    """`"0.3:2.1"` or `"1k:100k"`."""
    low, colon, high = text.partition(":")
    if not colon:
        raise JetRulerError(f"{option}: expected two ends with a colon, as in 1:10, found {text!r}")
    return read_value(option, low, unit), read_value(option, high, unit)


def _shown(choice: Result, as_json: bool) -> None:
    show_json(choice.to_dict()) if as_json else show(choice.content)
