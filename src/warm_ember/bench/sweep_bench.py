"""The bench of a sweep: values are set and confirmed, each is recorded, and the output is off at every end."""

from __future__ import annotations

import logging
import re
import shlex
import subprocess
import time
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from types import TracebackType
from typing import Self

import msgspec

from warm_ember.bench.console import Console
from warm_ember.bench.patterns import compile_expression
from warm_ember.bench.recorder import Ending, Job, Recorded, Recorder
from warm_ember.bench.station import InstrumentConnection
from warm_ember.errors import InstrumentError
from warm_ember.model.bench import Bench, BenchSettings, SecondGives
from warm_ember.model.sweep import SetBy, Setting, SweepParameter, SweepRecipe, Value, value_text
from warm_ember.signal.series import ShouldStop
from warm_ember.store.capture_name import CaptureName

log = logging.getLogger(__name__)

_STEP_S = 0.05
_BOOT_S = 1.0
_TRIES = 2
_COMMAND_S = 120.0
_PERSON_FACTOR = 120.0
_TOLD = ("state ", "wake ", "sleep ", "sync ", "mark ", "boot", "(console")
"""How lines begin that the target writes without being asked."""

_REFUSES = re.compile(r"\b(err|error|fail|failed|invalid|unknown|range|refused|nak|denied)\b", re.IGNORECASE)


class SetState(StrEnum):
    """What came of setting a value."""

    SET = "set"
    REFUSED = "refused"
    SILENT = "silent"
    STOPPED = "stopped"


@dataclass(frozen=True)
class SetAnswer:
    """What came of setting a value, and what the target said to it."""

    state: SetState
    words: str = ""


Ask = Callable[[str, float, ShouldStop], bool]
"""Asks a person to do something within so many seconds; answers whether it was done."""


class SweepBench:
    """An instrument and a target that values are set on; use it as a context, at whose end the output is off.

    Parameters
    ----------
    bench, recipe
        Address, guard and the sweep.
    console
        The target's console; None where no value is sent to it.
    job_of
        Makes the job of a recording from its name and settings.
    ask
        Asks a person.
    said
        Called with what is being done, in words.
    started
        Called with each recorder before it runs.

    Raises
    ------
    InstrumentError
        If nobody answers.
    """

    def __init__(
        self,
        bench: Bench,
        recipe: SweepRecipe,
        console: Console | None,
        job_of: Callable[[CaptureName, BenchSettings], Job],
        *,
        ask: Ask,
        said: Callable[[str], None] = lambda _words: None,
        started: Callable[[Recorder], None] = lambda _recorder: None,
    ) -> None:
        self._bench, self._recipe, self._console, self._job_of = bench, recipe, console, job_of
        self._ask, self._said, self._started = ask, said, started
        self._set: dict[str, Value] = {}
        self._is_prepared = False
        second = bench.second if bench.second.gives is not SecondGives.BOARD else None
        self._said("opening the instrument")
        self._station = InstrumentConnection(bench.resource, guard_v=bench.guard_v, second=second)
        try:
            self._station.instrument.check(recipe.settings)
            self._station.instrument.reset()
            self._settings = self._station.instrument.fitted(recipe.settings)
            self._power_on()
        except BaseException:
            self.close()
            raise

    def _power_on(self) -> None:
        self._said("power on")
        self._station.watch()
        instrument = self._station.instrument
        instrument.set_source(self._settings)
        instrument.switch(on=True)
        time.sleep(_BOOT_S)  # what it says at its start is no answer to what is sent
        self._forget()

    def _forget(self) -> None:
        """Have everything set anew: the target knows nothing of it any more."""
        self._set, self._is_prepared = {}, False

    def reopen(self, should_stop: ShouldStop) -> None:
        """Open the instrument anew after its link was lost; all values are set again.

        Raises
        ------
        InstrumentError
            If it is not there.
        """
        self._said("looking for the instrument")
        self._station.reopen(should_stop)
        self._power_on()

    def set_all(self, setting: Setting, should_stop: ShouldStop) -> SetAnswer:
        """Set what is not set yet, confirm it, and let the target settle.

        Raises
        ------
        InstrumentError
            If the console does not take a line.
        """
        settle_s = 0.0
        if not self._is_prepared and self._console is not None:
            for line in self._recipe.prepare:
                self._console.send(line)
            self._is_prepared = True
        for parameter, value in zip(self._recipe.parameters, setting, strict=True):
            if self._set.get(parameter.name) == value:
                continue
            self._set.pop(parameter.name, None)
            self._said(f"setting {parameter.name} to {value_text(value)}")
            for number in range(_TRIES):
                answer = self._set_one(parameter, value, should_stop)
                if answer.state is not SetState.SILENT or isinstance(parameter.send, SetBy):
                    break
                log.info("%s: no answer to try %d", parameter.name, number + 1)
            if answer.state is not SetState.SET:
                return answer
            self._set[parameter.name] = value
            settle_s = max(settle_s, parameter.settle_s)
        self._wait(settle_s, should_stop)
        return SetAnswer(SetState.STOPPED if should_stop() else SetState.SET)

    def _set_one(self, parameter: SweepParameter, value: Value, should_stop: ShouldStop) -> SetAnswer:
        send = parameter.send
        if isinstance(send, str):
            return self._send(send.replace("{value}", value_text(value)), parameter.confirm, should_stop)
        if send.run:
            return self._run(send.run, value, parameter.confirm, should_stop)
        done = self._ask(
            send.ask.replace("{value}", value_text(value)), _PERSON_FACTOR * self._recipe.answer_s, should_stop
        )
        if should_stop():
            return SetAnswer(SetState.STOPPED)
        return SetAnswer(SetState.SET) if done else SetAnswer(SetState.SILENT, "no answer to the request")

    def _send(self, line: str, confirm: str, should_stop: ShouldStop) -> SetAnswer:
        assert self._console is not None
        first = self._console.count
        since_s = time.monotonic()
        self._console.send(line)
        if not confirm:
            return SetAnswer(SetState.SET)
        if self._console.wait_for(confirm, since_s, self._recipe.answer_s, should_stop):
            return SetAnswer(SetState.SET)
        if should_stop():
            return SetAnswer(SetState.STOPPED)
        heard = [one.text for one in self._console.lines_from(first).lines if not one.sent]
        answers = [one for one in heard if not one.startswith(_TOLD)]
        said = next((one for one in answers if _REFUSES.search(one)), next(iter(answers), ""))
        if said:
            return SetAnswer(SetState.REFUSED, f"“{said[:80]}”")
        return SetAnswer(
            SetState.SILENT, f"no answer to “{line}” within {self._recipe.answer_s:g} s, tried {_TRIES} times"
        )

    def _run(self, command: str, value: Value, confirm: str, should_stop: ShouldStop) -> SetAnswer:
        # The value is one word of the command, whatever stands in it; no shell looks at it.
        words = [word.replace("{value}", value_text(value)) for word in shlex.split(command)]
        try:
            process = subprocess.Popen(
                words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, stdin=subprocess.DEVNULL
            )
        except OSError as error:
            return SetAnswer(SetState.REFUSED, f"{words[0]} cannot be run: {error.strerror}")
        until_s = time.monotonic() + _COMMAND_S
        while True:
            try:
                output, _ = process.communicate(timeout=_STEP_S)
                break
            except subprocess.TimeoutExpired:
                if should_stop() or time.monotonic() > until_s:
                    process.kill()
                    process.communicate()
                    state = SetState.STOPPED if should_stop() else SetState.SILENT
                    return SetAnswer(state, f"{words[0]} did not end within {_COMMAND_S:g} s")
        said = output.decode("utf-8", "replace").strip()
        last = "".join(c if c.isprintable() else " " for c in said.rpartition("\n")[2])[:80]
        if process.returncode:
            return SetAnswer(SetState.REFUSED, f"{words[0]} ended with {process.returncode}: {last}")
        if confirm and not any(compile_expression(confirm).search(line) for line in said.splitlines()):
            return SetAnswer(SetState.REFUSED, f"“{last}”")
        return SetAnswer(SetState.SET)

    def record(self, name: CaptureName, seconds: float, should_stop: ShouldStop) -> tuple[Recorded, bool]:
        """Record, and answer too whether the target started anew meanwhile: then its values are set no more.

        Raises
        ------
        InstrumentError
            If a fault left nothing to keep.
        """
        settings = msgspec.structs.replace(self._settings, duration_s=seconds)
        first = self._console.count if self._console is not None else 0
        recorder = Recorder(self._station, self._job_of(name, settings), self._console)
        self._started(recorder)
        recorded = recorder.run(should_stop)
        self._station.instrument.is_waited_with = True
        rebooted = False
        if self._console is not None and self._recipe.reboot:
            expression = compile_expression(self._recipe.reboot)
            lines = self._console.lines_from(first).lines
            rebooted = any(expression.search(one.text) for one in lines if not one.sent)
        if rebooted or recorded.ending is not Ending.DONE:
            self._forget()
        return recorded, rebooted

    def _wait(self, seconds: float, should_stop: ShouldStop) -> None:
        until_s = time.monotonic() + seconds
        while time.monotonic() < until_s and not should_stop():
            time.sleep(min(_STEP_S, max(until_s - time.monotonic(), 0.0)))

    def close(self) -> None:
        """Switch the output off and hang up."""
        try:
            if not self._station.make_safe():
                log.error("the output of %s could not be switched off", self._bench.resource)
        except InstrumentError as error:
            log.error("switching off failed: %s", error)
        finally:
            self._station.unwatch()
            self._station.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
