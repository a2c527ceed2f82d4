"""The simulated source and meter: its settings, its commands, its one sweep."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from warm_ember.bench.simulated.attachments import ATTACHMENTS
from warm_ember.bench.simulated.direct import noise_of
from warm_ember.bench.simulated.firmware import LINES
from warm_ember.bench.simulated.played import PlayedBattery
from warm_ember.bench.simulated.ranges import RANGES, Noise
from warm_ember.bench.simulated.sampling import Sampler
from warm_ember.bench.simulated.scpi import (
    ILLEGAL_VALUE,
    OUT_OF_RANGE,
    SETTINGS_CONFLICT,
    CommandError,
    Interpreter,
    block,
    is_on,
    number,
)
from warm_ember.bench.simulated.sweep import Sweep, SweepStart
from warm_ember.bench.simulated.target import LEADS, Target

IDENTITY = "Warm Ember,Simulated bench,0,1"
MAX_V = 5.0
MAX_A = 1.0
INTERVAL_S = (1e-6, 1.0)
_ANSWER_SAMPLES = 1 << 18


_AT_ONCE = SweepStart()


@dataclass
class _Settings:
    voltage_v: float = 0.0
    limit_a: float = 0.1
    interval_s: float = 1e-4
    points: float = 1000
    range_index: int | None = None
    start: SweepStart = _AT_ONCE
    before: int = 0
    swapped: bool = False
    data_format: str = "f4"
    is_on: bool = False


class SimulatedInstrument:
    """Hear SCPI, answer, and measure the target.

    Parameters
    ----------
    target
        What is on the rail.
    battery
        What the source plays while its output is on; None for the voltage that it is set to.

    Attributes
    ----------
    sweep
        The sweep that was armed last; None after an abort.
    """

    identity = IDENTITY

    def __init__(self, target: Target, battery: PlayedBattery | None = None) -> None:
        self.target = target
        self.battery = battery
        self.interpreter = Interpreter()
        self._settings = _Settings()
        self.sweep: Sweep | None = None
        self.on_power: Callable[[], None] = lambda: None
        self._wanted: set[str] = set()
        self._add_common()
        self._add_source()
        self._add_sense()
        self._add_trigger()
        self._add_routes()

    @property
    def is_on(self) -> bool:
        """Whether the output is on."""
        return self._settings.is_on

    def run(self, message: str) -> bytes | None:
        """Carry out a message and return the answer."""
        return self.interpreter.run(message)

    def advance(self) -> None:
        """Let target and sweep live on up to now."""
        self.target.advance()
        if self.sweep is not None:
            self.sweep.advance()

    def restart(self) -> None:
        """Lose all settings and the output, as after a failure of its own supply."""
        self._reset()
        self.interpreter.errors.clear()

    def _reset(self) -> None:
        self._switch(on=False)
        self._settings, self.sweep = _Settings(), None

    def _add_common(self) -> None:
        on = self.interpreter.on
        on("*IDN?", lambda _: self.identity)
        on("*RST", lambda _: self._reset(), most=0)

    def _add_source(self) -> None:
        on = self.interpreter.on
        on("[SOURce]:VOLTage[:LEVel][:IMMediate][:AMPLitude]", self._set_voltage)
        on("[SOURce]:VOLTage[:LEVel][:IMMediate][:AMPLitude]?", lambda _: f"{self._settings.voltage_v:.6E}")
        on("[SOURce]:CURRent:LIMit[:AMPLitude]", self._set_limit)
        on("[SOURce]:CURRent:LIMit[:AMPLitude]?", lambda _: f"{self._settings.limit_a:.6E}")
        on("OUTPut[:STATe]", lambda arguments: self._switch(on=is_on(arguments)))
        on("OUTPut[:STATe]?", lambda _: str(int(self._settings.is_on)))

    def _add_sense(self) -> None:
        on = self.interpreter.on
        on("SENSe:CURRent[:DC]:RANGe[:UPPer]", self._set_range)
        on("SENSe:CURRent[:DC]:RANGe:AUTO", self._set_auto_range)
        on("SENSe:SWEep:TINTerval", self._set_interval)
        on("SENSe:SWEep:TINTerval?", lambda _: f"{self._settings.interval_s:.9E}")
        on("SENSe:SWEep:POINts", self._set_points)
        on("SENSe:SWEep:OFFSet:POINts", self._set_before)
        on("FORMat[:DATA]", self._set_format, most=2)
        on("FORMat:BORDer", self._set_order)
        on("FETCh:ARRay:CURRent[:DC]?", lambda _: self._fetch("current"))
        on("FETCh:ARRay:VOLTage[:DC]?", lambda _: self._fetch("voltage"))
        on("FETCh:ARRay:DIGital?", lambda _: self._fetch("lines"))
        on("FETCh:ARRay:FIELd?", lambda _: self._fetch("field"))

    def _add_trigger(self) -> None:
        on = self.interpreter.on
        on("TRIGger:SOURce", self._set_trigger)
        on("TRIGger:LEVel", lambda arguments: self._change_start(level_a=number(arguments, "A")))
        on("TRIGger:SLOPe", self._set_slope)
        on("INITiate[:IMMediate]", lambda _: self._arm(), most=0)
        on("ABORt", lambda _: self._abort(), most=0)

    def _add_routes(self) -> None:
        self.interpreter.on("ROUTe:CLOSe", lambda arguments: self._route(arguments, attached=True), most=9)
        self.interpreter.on("ROUTe:OPEN", lambda arguments: self._route(arguments, attached=False), most=9)

    def _set_voltage(self, arguments: list[str]) -> None:
        voltage_v = number(arguments, "V")
        if not 0 <= voltage_v <= MAX_V:
            raise CommandError(OUT_OF_RANGE)
        self._settings.voltage_v = voltage_v
        self._follow_voltage()

    def _follow_voltage(self) -> None:
        """Let a change of voltage while the output is on reach rail and target."""
        if self._settings.is_on:
            self._follow_power()

    def _set_limit(self, arguments: list[str]) -> None:
        limit_a = number(arguments, "A")
        if not 0 < limit_a <= MAX_A:
            raise CommandError(OUT_OF_RANGE)
        self._settings.limit_a = limit_a

    def _switch(self, *, on: bool) -> None:
        if on == self._settings.is_on:
            return
        if self.sweep is not None:
            self.sweep.advance()
        self._settings.is_on = on
        self._follow_power()

    def _follow_power(self) -> None:
        settings = self._settings
        volts = settings.voltage_v if self.battery is None else self.battery.resting_v
        self.target.rail_v = volts if settings.is_on else 0.0
        self.target.power(settings.is_on and settings.voltage_v > 0 and LEADS in self.target.attached)
        if self.sweep is not None:
            self.sweep.follow_power()
        self.on_power()

    def _set_range(self, arguments: list[str]) -> None:
        if arguments and arguments[0].upper() == "AUTO":
            self._settings.range_index = None
            return
        full_a = number(arguments, "A")
        fitting = [index for index, one in enumerate(RANGES) if one.full_a >= full_a * 0.999]
        if not fitting:
            raise CommandError(OUT_OF_RANGE)
        self._settings.range_index = fitting[0]

    def _set_auto_range(self, arguments: list[str]) -> None:
        self._settings.range_index = None if is_on(arguments) else len(RANGES) - 1

    def _set_interval(self, arguments: list[str]) -> None:
        interval_s = number(arguments, "S")
        if not INTERVAL_S[0] * 0.999 <= interval_s <= INTERVAL_S[1]:
            raise CommandError(OUT_OF_RANGE)
        self._settings.interval_s = interval_s

    def _set_points(self, arguments: list[str]) -> None:
        endless = bool(arguments) and arguments[0].upper() in ("INF", "INFINITY")
        points = math.inf if endless else number(arguments)
        if points < 1:
            raise CommandError(OUT_OF_RANGE)
        self._settings.points = points

    def _set_before(self, arguments: list[str]) -> None:
        before = -number(arguments)
        if before < 0:
            raise CommandError(OUT_OF_RANGE)
        self._settings.before = int(before)

    def _set_format(self, arguments: list[str]) -> None:
        word, *digits = [argument.upper() for argument in arguments] or [""]
        if word == "REAL" and digits in ([], ["32"], ["64"]):
            self._settings.data_format = "f8" if digits == ["64"] else "f4"
        elif word in ("ASC", "ASCII") and all(one.isdigit() for one in digits):
            self._settings.data_format = "text"
        else:
            raise CommandError(ILLEGAL_VALUE)

    def _set_order(self, arguments: list[str]) -> None:
        word = arguments[0].upper() if arguments else ""
        if word not in ("NORM", "NORMAL", "SWAP", "SWAPPED"):
            raise CommandError(ILLEGAL_VALUE)
        self._settings.swapped = word.startswith("SWAP")

    def _set_trigger(self, arguments: list[str]) -> None:
        word = arguments[0].upper() if arguments else ""
        if word in ("IMM", "IMMEDIATE"):
            self._change_start(source="immediate")
        elif word in ("INT", "INTERNAL"):
            self._change_start(source="level")
        elif word.startswith(("TTLT", "TTLTRG")) and word[-1].isdigit() and int(word[-1]) < len(LINES):
            self._change_start(source="line", bit=int(word[-1]))
        else:
            raise CommandError(ILLEGAL_VALUE)

    def _set_slope(self, arguments: list[str]) -> None:
        word = arguments[0].upper() if arguments else ""
        if word not in ("POS", "POSITIVE", "NEG", "NEGATIVE"):
            raise CommandError(ILLEGAL_VALUE)
        self._change_start(rising=word.startswith("POS"))

    def _change_start(self, **changes: object) -> None:
        start = self._settings.start
        self._settings.start = SweepStart(**({f: getattr(start, f) for f in start.__dataclass_fields__} | changes))

    def _arm(self) -> None:
        settings = self._settings
        noise = Noise(noise_of(self.target.firmware, self.target.seed))
        self.target.advance()
        self._wanted = set()
        before = settings.before if settings.start.source != "immediate" else 0
        rate_hz = 1 / settings.interval_s
        self.sweep = Sweep(
            self.target, lambda: self.sampler(rate_hz, noise), rate_hz, settings.points, settings.start, before
        )

    def sampler(self, rate_hz: float, noise: Noise | None = None) -> Sampler:
        """Return what samples the target as it is powered and set now."""
        settings = self._settings
        return Sampler(
            self.target.post,
            self.target.time_s,
            rate_hz,
            supply_v=settings.voltage_v if settings.is_on else 0.0,
            limit_a=settings.limit_a,
            noise=noise or Noise(noise_of(self.target.firmware, self.target.seed)),
            fixed_range=settings.range_index,
            battery=self.battery,
        )

    def _abort(self) -> None:
        self.sweep = None

    def _fetch(self, channel: str) -> bytes:
        if self.sweep is None:
            raise CommandError(SETTINGS_CONFLICT)
        if channel in self._wanted:  # the second round: what the first did not ask for is not wanted
            self.sweep.skip_unwanted(self._wanted)
        self._wanted.add(channel)
        values = self.sweep.fetch(channel, _ANSWER_SAMPLES)
        if self._settings.data_format == "text":
            return ",".join(f"{value:.7E}" for value in values.tolist()).encode()
        return block(values.astype(("<" if self._settings.swapped else ">") + self._settings.data_format).tobytes())

    def _route(self, arguments: list[str], *, attached: bool) -> None:
        names = [one.name for one in ATTACHMENTS] + [LEADS]
        for argument in arguments:
            channel = argument.strip("(@) ")
            if not channel.isdigit() or not 1 <= int(channel) <= len(names):
                raise CommandError(ILLEGAL_VALUE)
            self.target.attach(names[int(channel) - 1], attached=attached)
        self._follow_power()
