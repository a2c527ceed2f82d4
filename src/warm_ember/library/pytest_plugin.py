"""The pytest plug-in: the fixture ``power`` records from the bench while a test runs; silent without an instrument."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest

if TYPE_CHECKING:
    from warm_ember.library.power import Power, PowerBench

# The rest is imported when a test asks for the fixture: a run of tests without it shall not notice the plug-in.

_OPTIONS = {
    "from": ("VISA", "instrument to record from, or simulated[:r1…r5]"),
    "console": ("DEVICE|socket://HOST:PORT", "the target's console, whose lines name its states"),
    "project": ("DIR", "project that keeps the captures; 'power' beside the tests' configuration by default"),
    "interval": ("S", "time between samples"),
    "voltage": ("V", "voltage of the source"),
    "limit": ("A", "current limit of the source"),
}

_TAKEN = pytest.StashKey[list[str]]()


def pytest_addoption(parser: pytest.Parser) -> None:
    """Add the options, each of which may stand in the configuration as well."""
    group = parser.getgroup("power", "current of a battery device on the bench")
    for name, (value, words) in _OPTIONS.items():
        group.addoption(f"--power-{name}", metavar=value, default=None, help=words)
        parser.addini(f"power_{name}", f"{words} ({value})", default="")


def _setting(config: pytest.Config, name: str) -> str:
    given = config.getoption(f"--power-{name}")
    return str(given if given is not None else config.getini(f"power_{name}"))


def _number(config: pytest.Config, name: str) -> float | None:
    text = _setting(config, name)
    try:
        return float(text) if text else None
    except ValueError:
        raise pytest.UsageError(f"--power-{name}: expected a number, found {text!r}") from None


@pytest.fixture(scope="session")
def power_bench(request: pytest.FixtureRequest) -> Iterator[PowerBench | None]:
    """Open the instrument's project; None where no instrument was given."""
    source = _setting(request.config, "from")
    if not source:
        yield None
        return
    from warm_ember.library.power import PowerBench

    folder = Path(_setting(request.config, "project") or "power")
    with PowerBench(
        source,
        request.config.rootpath / folder,
        console=_setting(request.config, "console"),
        interval_s=_number(request.config, "interval"),
        voltage_v=_number(request.config, "voltage"),
        limit_a=_number(request.config, "limit"),
    ) as bench:
        yield bench


@pytest.fixture
def power(request: pytest.FixtureRequest, power_bench: PowerBench | None) -> Iterator[Power]:
    """Record from the bench: ``with power.recording("boot") as r: …``, then ``r.mean_a``."""
    if power_bench is None:
        pytest.skip("no instrument to record from: give --power-from, or power_from in the configuration")
    from warm_ember.library.power import Power

    taken = request.node.stash.setdefault(_TAKEN, [])
    properties = request.node.user_properties  # which every report has; the fixture for them warns of newer schemas
    one = Power(power_bench, lambda name, value: properties.append((name, value)), taken.append)
    yield one
    unseen = one.unseen_failures()
    if unseen:
        pytest.fail(unseen, pytrace=False)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Any:
    """Say in the report of a failed test what was recorded, and where it is kept."""
    report = yield
    if report.failed and (told := item.stash.get(_TAKEN, [])):
        report.sections.append(("power", "\n".join(told)))
    return report
