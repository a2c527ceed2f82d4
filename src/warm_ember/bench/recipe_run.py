"""Running a recipe: power, wait, send, record, step by step."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, replace

import msgspec

from warm_ember.bench.console import Console
from warm_ember.bench.patterns import compile_expression
from warm_ember.bench.recorder import Ending, Job, Recorded, Recorder
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import BadArgumentError, InstrumentError, WarmEmberError
from warm_ember.model.bench import Bench, BenchSettings, Recipe, SecondGives, Send, Step, SwitchOutput, Take, WaitFor
from warm_ember.signal.series import ShouldStop
from warm_ember.store.capture_name import CaptureName

_OFF_S = 0.5
_STEP_S = 0.05


@dataclass
class RecipeRun:
    """One run of a recipe.

    Parameters
    ----------
    bench
        Address and guard.
    recipe
        Steps and settings.
    console
        The open console, if there is one.
    job_of
        Makes the job of a recording from its name, which is taken, and settings.
    started
        Called with each recorder before it runs.
    said
        Called with what is being done, in words.
    opened
        Called when the instrument was opened and takes the settings, before the first step.
    """

    bench: Bench
    recipe: Recipe
    console: Console | None
    job_of: Callable[[CaptureName, BenchSettings], Job]
    started: Callable[[Recorder], None]
    said: Callable[[str], None]
    opened: Callable[[], None] = lambda: None

    def run(
        self,
        name_of: Callable[[str], CaptureName],
        should_stop: ShouldStop,
        *,
        reset: bool = True,
        keep_power: bool = False,
        timeout_s: float = 5.0,
    ) -> tuple[Recorded, ...]:
        """Do all steps; a recording that ends with a fault is the last.

        Raises
        ------
        BadArgumentError
            If a step cannot be done; nothing was switched on then.
        InstrumentError
            If a fault left nothing to keep.
        """
        check_steps(self.recipe.steps, has_console=self.console is not None)
        self.said("opening the instrument")
        second = self.bench.second if self.bench.second.gives is not SecondGives.BOARD else None
        station = InstrumentConnection(
            self.bench.resource, timeout_s=timeout_s, guard_v=self.bench.guard_v, second=second
        )
        taken: list[Recorded] = []
        try:
            station.instrument.check(self.recipe.settings)
            if reset:
                station.instrument.reset()
            else:
                station.instrument.forget_errors()
            self.recipe = msgspec.structs.replace(self.recipe, settings=station.instrument.fitted(self.recipe.settings))
            self.opened()
            for step in self.recipe.steps:
                if should_stop():
                    break
                self._do(step, station, taken, name_of, should_stop, keep_power=keep_power)
                if taken and taken[-1].ending is not Ending.DONE:
                    break
        except BaseException as error:
            station.make_safe()
            if taken and isinstance(error, WarmEmberError):
                taken[-1] = replace(taken[-1], ending=Ending.FAULT, fault=error)
                return tuple(taken)
            raise
        else:
            if not keep_power and not (taken and taken[-1].fault is not None):
                station.make_safe()
            return tuple(taken)
        finally:
            station.unwatch()
            station.close()

    def _do(
        self,
        step: Step,
        station: InstrumentConnection,
        taken: list[Recorded],
        name_of: Callable[[str], CaptureName],
        should_stop: ShouldStop,
        *,
        keep_power: bool,
    ) -> None:
        self.said(step_words(step))
        if isinstance(step, SwitchOutput):
            self._power(step, station, keep_power=keep_power)
        elif isinstance(step, WaitFor):
            self._wait(step, should_stop)
        elif isinstance(step, Send):
            assert self.console is not None
            self.console.send(step.text)
        else:
            settings = self.recipe.settings
            if step.seconds is not None:
                settings = msgspec.structs.replace(settings, duration_s=step.seconds)
            recorder = Recorder(station, self.job_of(name_of(step.name), settings), self.console)
            self.started(recorder)
            taken.append(recorder.run(should_stop))
        if not isinstance(step, SwitchOutput):
            station.instrument.is_waited_with = True

    def _power(self, step: SwitchOutput, station: InstrumentConnection, *, keep_power: bool) -> None:
        instrument = station.instrument
        if step.on and not keep_power:
            station.watch()
        if step.cycle or not step.on:
            instrument.switch(on=False)
        if step.cycle:
            time.sleep(_OFF_S)
        if step.on:
            instrument.set_source(self.recipe.settings)
            instrument.switch(on=True)

    def _wait(self, step: WaitFor, should_stop: ShouldStop) -> None:
        since_s = time.monotonic()
        if not step.text:
            while time.monotonic() - since_s < step.seconds and not should_stop():
                time.sleep(_STEP_S)
            return
        assert self.console is not None
        # What the target said at power-on may be here already.
        if not self.console.wait_for(step.text, since_s - _OFF_S, step.seconds, should_stop) and not should_stop():
            raise InstrumentError(
                self.console.address, f"the console did not say “{step.text}” within {step.seconds:g} s"
            )


def check_steps(steps: tuple[Step, ...], *, has_console: bool) -> None:
    """Check that steps can be done.

    Raises
    ------
    BadArgumentError
        If one needs a console and there is none, is no regular expression, or nothing is recorded.
    """
    if not any(isinstance(step, Take) for step in steps):
        raise BadArgumentError("this recipe records nothing: add a step that records")
    for step in steps:
        if isinstance(step, WaitFor):
            compile_expression(step.text)
        if not has_console and (isinstance(step, Send) or (isinstance(step, WaitFor) and step.text)):
            raise BadArgumentError(f"“{step_words(step)}” needs the target's console: give its address")


def step_words(step: Step) -> str:
    """Return a step in words.

    Examples
    --------
    >>> step_words(SwitchOutput(cycle=True)), step_words(WaitFor("boot", 5.0)), step_words(Take(600.0))
    ('power off and on', 'wait for “boot”, 5 s at most', 'record 600 s')
    """
    if isinstance(step, SwitchOutput):
        return "power off and on" if step.cycle else "power on" if step.on else "power off"
    if isinstance(step, WaitFor):
        return f"wait for “{step.text}”, {step.seconds:g} s at most" if step.text else f"wait {step.seconds:g} s"
    if isinstance(step, Send):
        return f"send “{step.text}”"
    return (
        "record"
        + (f" {step.seconds:g} s" if step.seconds is not None else "")
        + (f" as {step.name}" if step.name else "")
    )
