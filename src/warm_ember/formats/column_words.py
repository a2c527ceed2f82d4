"""What a column's header says: the name, the unit, what is measured, and whether it is a measurement at all."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum


class Quantity(StrEnum):
    """What a column holds."""

    CURRENT = "current"
    VOLTAGE = "voltage"
    TIME = "time"
    CHARGE = "charge"
    OTHER = "other"


@dataclass(frozen=True)
class Unit:
    """A unit: what it measures, and how much of the SI unit it is."""

    quantity: Quantity
    scale: float


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


_PREFIXES = {
    "": 1.0, "k": 1e3, "m": 1e-3, "u": 1e-6, "n": 1e-9, "p": 1e-12, "f": 1e-15,
}  # fmt: skip
_PREFIX_WORDS = {"": 1.0, "kilo": 1e3, "milli": 1e-3, "micro": 1e-6, "nano": 1e-9, "pico": 1e-12}
_BASES = {
    "a": Quantity.CURRENT, "amp": Quantity.CURRENT, "amps": Quantity.CURRENT, "ampere": Quantity.CURRENT,
    "amperes": Quantity.CURRENT, "ampère": Quantity.CURRENT, "ampères": Quantity.CURRENT,
    "v": Quantity.VOLTAGE, "volt": Quantity.VOLTAGE, "volts": Quantity.VOLTAGE,
    "s": Quantity.TIME, "sec": Quantity.TIME, "secs": Quantity.TIME, "second": Quantity.TIME,
    "seconds": Quantity.TIME, "sek": Quantity.TIME, "sekunden": Quantity.TIME, "secondes": Quantity.TIME,
}  # fmt: skip
_CHARGES_C = {
    "ah": 3600.0, "mah": 3.6, "uah": 3.6e-3, "c": 1.0, "mc": 1e-3, "uc": 1e-6, "nc": 1e-9, "coulomb": 1.0,
    "coulombs": 1.0, "as": 1.0, "mas": 1e-3,
}  # fmt: skip
_LONG_TIMES = {
    "min": 60.0, "mins": 60.0, "minute": 60.0, "minutes": 60.0, "h": 3600.0, "hr": 3600.0, "hrs": 3600.0,
    "hour": 3600.0, "hours": 3600.0, "d": 86400.0, "day": 86400.0, "days": 86400.0,
}  # fmt: skip
_OTHERS = _words(
    """
        w mw uw nw kw watt watts j mj uj nj joule wh mwh kwh ohm ohms ω mω kω k °c °f
        degc degf c° celsius fahrenheit kelvin hz khz mhz ghz % %rh rh pct percent db dbm lux lx pa hpa kpa mbar bar
        g kg m mm cm rpm count counts cnt lsb raw bit bits bytes ppm f uf nf dbuv va var s/s ksps sps deg rad
        """
)
_QUANTITY_WORDS = {
    Quantity.TIME: _words(
        """
        t x time times timestamp timestamps ts stamp date datetime clock elapsed zeit zeitstempel temps tiempo tempo
        second seconds sec secs uhrzeit datum heure hora fecha epoch unixtime reltime
        """
    ),
    Quantity.CURRENT: _words(
        """
        i current currents strom courant corriente corrente amp amps ampere amperes amperage isense iload ibat ibatt
        idd icc iin iout imeas ivbat ibus isys idut icharge idc
        """
    ),
    Quantity.VOLTAGE: _words(
        """
        v u voltage voltages spannung tension voltaje volt volts vbat vbatt vcc vdd vin vout vbus vsys vmeas vload
        vdut vsense vsupply vdc
        """
    ),
}
_ENDINGS = {
    Quantity.TIME: ("zeit", "time", "timestamp"),
    Quantity.CURRENT: ("strom", "current"),
    Quantity.VOLTAGE: ("spannung", "voltage"),
}
_MEASURES = _words(
    """
        avg average averaged mean mittel mittelwert moyenne media promedio measured meas actual readback sensed
        reading
        """
)
_NOT_MEASURED = _words(
    """
        limit lim limits range set setpoint setting settings target max maximum min minimum peak pk pkpk highest
        lowest compliance ocp ovp uvp uvlo over under trip tripped threshold protection protect status state flag
        flags error err std stddev stdev deviation sigma variance rms rated nominal cutoff fuse programmed prog
        alarm grenze grenzwert sollwert soll limite consigne offset cal calibration index count overcurrent
        overvoltage undervoltage noise resolution ratio inrush wave waveform quality
        """
)
_ADJUSTED = re.compile(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])")
_WORD = re.compile(r"[^\W\d_]+|\d+")
_BRACKETS = re.compile(r"\s*[\[({<]\s*([^\])}>]*?)\s*[\])}>]\s*")
_TAIL = re.compile(r"(.*?)([\s_]+in[\s_]+|\s*[/:,|]\s*|[\s_\-.]+)([A-Za-zµμΩ°%²]+(?:/s)?)\s*\Z")
_QUALIFIER = re.compile(
    r"(ch|chan|channel|kanal|no|nr|#)?[ .:_-]*\d+|[a-d]|dc|ac|dut|load|raw|\+|-|abs|signed", re.IGNORECASE
)


def unit_of(text: str) -> Unit | None:
    """Return the unit that a text is, None where it is none that is known here.

    Case matters only where it tells two readings apart that both make sense; nobody records megaamperes.

    Examples
    --------
    >>> unit_of("mA"), unit_of("microamperes").scale, unit_of("MS").scale, unit_of("mAh").quantity.value, unit_of("xyz")
    (Unit(quantity=<Quantity.CURRENT: 'current'>, scale=0.001), 1e-06, 0.001, 'charge', None)
    """
    plain = text.strip().strip(".").replace("µ", "u").replace("μ", "u").casefold()
    if plain in _OTHERS:
        return Unit(Quantity.OTHER, 1.0)
    if plain in _CHARGES_C:
        return Unit(Quantity.CHARGE, _CHARGES_C[plain])
    if plain in _LONG_TIMES:
        return Unit(Quantity.TIME, _LONG_TIMES[plain])
    for base, quantity in _BASES.items():
        if not plain.endswith(base):
            continue
        prefix = plain[: len(plain) - len(base)]
        prefixes = _PREFIXES if len(base) == 1 or base == "sec" else _PREFIX_WORDS
        scale = prefixes.get(prefix, _PREFIX_WORDS.get(prefix.rstrip(" -")) if len(base) > 1 else None)
        if scale is not None and not (quantity is Quantity.TIME and scale > 1):
            return Unit(quantity, scale)
    return None


@dataclass(frozen=True)
class HeaderColumn:
    """One column of a table: its header split into name and unit (empty when not given), and as it stands.

    Parameters
    ----------
    index
        Its place, from 0.
    name, unit
        What it is called, and the unit as it is written; empty where there is none.
    text
        The header's text.
    strange
        What stands where a unit should, and is none that is known.
    """

    index: int
    name: str
    unit: str = ""
    text: str = field(default="", compare=False)
    strange: str = field(default="", compare=False)

    @property
    def measure(self) -> Unit | None:
        """The unit as a unit."""
        return unit_of(self.unit) if self.unit else None

    @property
    def words(self) -> tuple[str, ...]:
        """The words of its name, in small letters."""
        return words_of(self.name)

    def is_called(self, quantity: Quantity) -> bool:
        """Return whether its name is one of a quantity's."""
        words = [word for word in self.words if not word.isdigit()]
        known = _QUANTITY_WORDS.get(quantity, frozenset())
        if any((word in known and len(word) > 1) or word.endswith(_ENDINGS[quantity]) for word in words):
            return True
        # A single letter names a quantity where it stands first: "I", "i_load", "V1".
        # A capital T is a temperature, and "I_d" an identifier.
        if not words or words[0] not in known or len(words) > 2 or self.name.startswith("T"):
            return False
        return words[1:] not in (["d"], ["dx"])

    @property
    def is_measured(self) -> bool:
        """Whether it holds what was measured, and no limit, set-point, range, largest or smallest value."""
        words = {word.rstrip("0123456789") for word in self.words} | set(self.words)
        return not words & _NOT_MEASURED


def words_of(text: str) -> tuple[str, ...]:
    """Split a name into words, at signs and where capitals begin.

    Examples
    --------
    >>> words_of("CH1_maxCurrent"), words_of("over-current limit")
    (('ch', '1', 'max', 'current'), ('over', 'current', 'limit'))
    """
    return tuple(found.casefold() for part in _ADJUSTED.split(text) for found in _WORD.findall(part))


def split_headers(texts: Sequence[str]) -> list[HeaderColumn]:
    """Split the headers of a table; a last letter that tells columns of one name apart is no unit."""
    columns = [split_header(index, text) for index, text in enumerate(texts)]
    stems = [column.text[:-1] for column in columns if re.fullmatch(r".*[\s_./-][B-Zb-z]", column.text)]
    return [
        HeaderColumn(one.index, one.text, "", one.text)
        if one.text[-1:] in ("A", "a") and one.unit and one.text[:-1] in stems
        else one
        for one in columns
    ]


def split_header(index: int, text: str) -> HeaderColumn:
    """Split a header such as ``"Current (mA)"``, ``"time_ms"`` or ``"I / µA"`` into name and unit."""
    text = text.strip().strip('"').strip()
    inside = [found for found in _BRACKETS.findall(text) if found]
    parts = [part for found in inside for part in (found, *re.split(r"[,;\s]+", found)) if part]
    unit = next((part for part in reversed(parts) if unit_of(part) is not None), "")
    if unit:
        name = _BRACKETS.sub(lambda found: f" {found[1].replace(unit, ' ', 1)} ", text)
        return HeaderColumn(index, re.sub(r"[\s,;]+", " ", name).strip() or text, unit, text)
    strange = next((one for one in reversed(inside) if not _is_qualifier(one)), "")
    if strange:
        return HeaderColumn(index, _BRACKETS.sub(" ", text).strip() or text, "", text, strange)
    bare = text if not inside else re.sub(r"\s+", " ", _BRACKETS.sub(lambda found: f" {found[1]} ", text)).strip()
    if unit_of(bare) is not None and bare not in _NAMES_FIRST:
        return HeaderColumn(index, bare, bare, text)
    tail = _TAIL.match(bare)
    if tail and tail[1].strip(" _/:-") and unit_of(tail[3]) is not None:
        parted = tail[2].strip(" _.-") != ""  # by a slash, a colon or "in", which part nothing but a unit
        if parted or _is_unit_tail(tail[1], tail[3]):
            return HeaderColumn(index, tail[1].strip(" _/:-,"), _spelled(tail[3]), text)
    return HeaderColumn(index, bare, "", text)


_AMBIGUOUS = _words(
    """
        a v s h d c k g m f j w i x t min raw count counts cnt bar day days deg bit bits byte bytes percent pct rh
        rad var va db lsb lx ppm
        """
)
"""Units that may as well be a name, or a part of one."""


_NAMES_FIRST = _words(
    """
        a V v h min C c k g m f d i x t raw count counts bar
        """
)
"""What a header of nothing else names, though it may be a unit."""


def _is_qualifier(text: str) -> bool:
    """Return whether a text in brackets tells which one of several it is, or how it was measured, and not the unit."""
    words = set(words_of(text))
    return bool(_QUALIFIER.fullmatch(text)) or bool(words & (_MEASURES | _NOT_MEASURED)) or len(words) > 2


def _is_unit_tail(name: str, unit: str) -> bool:
    """Return whether the last part of a name is its unit: some may as well be a part of the name."""
    measure = unit_of(unit)
    if measure is None or unit.casefold() not in _AMBIGUOUS:
        return measure is not None
    return measure.quantity in _QUANTITY_WORDS and HeaderColumn(0, name).is_called(measure.quantity)


def _spelled(unit: str) -> str:
    """Write a unit as one usually does where a name in small letters holds it."""
    return {"ma": "mA", "ua": "uA", "na": "nA", "pa": "pA", "a": "A", "mv": "mV", "uv": "uV", "v": "V"}.get(unit, unit)
