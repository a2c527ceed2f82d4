"""The sentences of the Battery page: its answers in words and figures."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING

from warm_ember.session.battery_results import LifeInYears, Tradeoffs, UnseenLife
from warm_ember.session.run_results import RunResults
from warm_ember.units import MONTH_S, format_significant, format_trimmed, months_text, quantity_text

if TYPE_CHECKING:
    from warm_ember.session.records import LifeEstimate, SensitivityStep


def life_sentence(results: RunResults, steps: tuple[SensitivityStep, ...]) -> str:
    """Return how long the battery lasts against the target, and which input that rests on most weakly."""
    weakest = results.life.weakest
    return f"{_answer(results, steps)} Least certain input: {weakest.origin} ({weakest.grade.words})."


def rests_on(results: RunResults, unseen: UnseenLife | None) -> str:
    """Return on what of a capture a life rests, and what may be too seldom for it; empty where activities say it."""
    if results.window is None:
        return ""
    more = f" {unseen.words[:1].upper()}{unseen.words[1:]}." if unseen is not None else ""
    return f"The life rests on the capture: {results.window.words}.{more}"


def years_sentence(results: RunResults, found: LifeInYears, steps: tuple[SensitivityStep, ...]) -> str:
    """Return what ends a life, what takes most of it, and when its pulses come closest to the stop."""
    if not found.years:
        return _answer(results, steps)
    margins = [(year.margin_v, year) for year in found.years[:-1] or found.years if year.margin_v is not None]
    strongest = max(found.effects, key=lambda effect: effect.takes_s or 0.0)
    text = f"**{months_text(results.life.life_s).number}** months, ended by {results.life.limit.value}"
    if strongest.takes_s:
        text += f"; {strongest.name} alone costs {months_text(strongest.takes_s).rich}"
    if margins:
        least, year = min(margins, key=lambda one: one[0])
        text += f". The pulses come closest in year {year.number}: {quantity_text(least, 'V', 2).rich} above the stop"
    return text + "."


def trade_sentence(found: Tradeoffs | None, results: RunResults | None) -> str:
    """Say the smallest single change that meets the target."""
    if found is None:
        return "Trying each parameter …"
    if found.target_s is None:
        return "Enter a target to see what would meet it."
    wanted = months_text(found.target_s).rich
    possible = [way for way in found.ways if way.needed is not None]
    if any(way.factor == 1.0 for way in possible):
        return f"The target of {wanted} is met; each parameter is shown with its limit."
    floor = next((way for way in found.ways if results and way.name == results.load.base_name), None)
    text = f"No single change reaches {wanted}."
    if possible:
        best = possible[0]
        text = f"Smallest single change that reaches {wanted}: {best.name}, from {best.now} to **{best.needed}**."
    if floor is not None and floor.needed is None:
        text += " Lowering the sleep current alone cannot reach it."
    return text


def _first_up(text: str) -> str:
    return text[:1].upper() + text[1:]


def side_words(life: LifeEstimate) -> str:
    """Return "at most " or "at least " where only a bound is known of a life."""
    return f"{life.bound.value.replace('_', ' ')} " if life.bound is not None else ""


def _answer(results: RunResults, steps: tuple[SensitivityStep, ...]) -> str:
    life = results.life
    if not math.isfinite(life.life_s):
        return "Nothing is drawn on average: this model never ends."
    lasts = f"{side_words(life)}**{format_significant(life.life_s / MONTH_S)}** months"
    if life.target_s is None:
        return f"{results.run.label} lasts {lasts}, ended by {life.limit.value}; enter a target to compare."
    wanted = f"**{format_trimmed(life.target_s / MONTH_S)}**"
    if life.life_s >= life.target_s:
        return f"{lasts}; target {wanted}: met. {_first_up(life.limit.value)} ends it."
    single = next((s for s in steps if s.better_s >= life.target_s), None)
    if life.budget_a == 0:
        return f"{lasts}; target {wanted}: impossible with this battery at any current."
    if single is None:
        return f"{lasts}; target {wanted}. No single parameter step reaches it."
    return f"{lasts}; target {wanted}. {_first_up(single.name)} at {single.better} would reach it."
