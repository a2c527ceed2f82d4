"""The records that results are made of, for whoever shows them: what they are, and nothing that computes them."""

from __future__ import annotations

from warm_ember.attribution.budget import BudgetSegment
from warm_ember.attribution.clock import Residuals
from warm_ember.attribution.cycles import WholeCycles
from warm_ember.attribution.day import DayRow
from warm_ember.attribution.dwells import DwellSpread
from warm_ember.attribution.functions import FunctionLedger, FunctionRow
from warm_ember.attribution.kinds import Kind, Kinds
from warm_ember.attribution.ledger import Ledger, LedgerRow, Verdict
from warm_ember.attribution.relabelling import SplitBy
from warm_ember.attribution.sleep_agreement import AgreementRow, Disagreement, Marker, SleepAgreement
from warm_ember.attribution.sleep_depth import BreakEven, IdleRow, Mode, SleepDepth
from warm_ember.attribution.transitions import StateReturn, Transition
from warm_ember.attribution.wake_alignment import Saving
from warm_ember.attribution.wake_ledger import SourceRow, WakeLedger
from warm_ember.attribution.wakes import Wakes
from warm_ember.battery.effects import YearEffect
from warm_ember.battery.life import LifeEstimate
from warm_ember.battery.sensitivity import SensitivityStep
from warm_ember.battery.tradeoff import FeasibleRegion, LifeCurve, SingleParameterSolution
from warm_ember.battery.years import YearOfLife
from warm_ember.bench.console import Console
from warm_ember.bench.console_line import ConsoleLine
from warm_ember.bench.description import InstrumentDescription
from warm_ember.bench.discovery import DiscoveredInstrument
from warm_ember.bench.patterns import Patterns
from warm_ember.bench.planning import Expectation, PlannedCapture
from warm_ember.bench.recorder import Recorded, Recorder
from warm_ember.bench.station import InstrumentConnection
from warm_ember.bench.trying import TriedCommand, TriedInstrument
from warm_ember.bench.wiring import Added
from warm_ember.bench.zero import Level, Stage
from warm_ember.fleet.boards import Board
from warm_ember.fleet.trend import Change as FleetChange
from warm_ember.fleet.trend import PlaceDifference
from warm_ember.signal.envelope import Envelope, PixelColumns
from warm_ember.signal.fold import Fold, OddCycle
from warm_ember.signal.level_stays import LevelStays
from warm_ember.signal.series import Progress, ShouldStop
from warm_ember.signal.steps import LevelStep
from warm_ember.signal.stretch import StretchReading
from warm_ember.store.sweep_journal import SweepProgress
from warm_ember.tuning.claims import ClaimResult, Outcome
from warm_ember.tuning.difference import ComparedRun, Difference
from warm_ember.tuning.findings.registry import Fact, QualityReport
from warm_ember.tuning.findings.timer_overridden import GrantedTimer
from warm_ember.tuning.gate import Outcome as GateOutcome
from warm_ember.tuning.matrix import Matrix, MatrixCell, MatrixRow, StateColumn
from warm_ember.tuning.prediction import PredictedStep
from warm_ember.tuning.proof import Proof
from warm_ember.tuning.search import SmallestSet
from warm_ember.tuning.suggestions import SuggestedChange
from warm_ember.tuning.sweep.fits import ParameterFit
from warm_ember.tuning.timers.period_model import PeriodModel
from warm_ember.tuning.wake_plan import PlanCheck
from warm_ember.tuning.waveform import WaveformSegment

__all__ = [
    "Added",
    "AgreementRow",
    "Board",
    "BreakEven",
    "BudgetSegment",
    "ClaimResult",
    "ComparedRun",
    "Console",
    "ConsoleLine",
    "DayRow",
    "Difference",
    "Disagreement",
    "DiscoveredInstrument",
    "DwellSpread",
    "Envelope",
    "Expectation",
    "Fact",
    "FeasibleRegion",
    "FleetChange",
    "Fold",
    "FunctionLedger",
    "FunctionRow",
    "GateOutcome",
    "GrantedTimer",
    "IdleRow",
    "InstrumentConnection",
    "InstrumentDescription",
    "Kind",
    "Kinds",
    "Ledger",
    "LedgerRow",
    "Level",
    "LevelStays",
    "LevelStep",
    "LifeCurve",
    "LifeEstimate",
    "Marker",
    "Matrix",
    "MatrixCell",
    "MatrixRow",
    "Mode",
    "OddCycle",
    "Outcome",
    "ParameterFit",
    "Patterns",
    "PeriodModel",
    "PixelColumns",
    "PlaceDifference",
    "PlanCheck",
    "PlannedCapture",
    "PredictedStep",
    "Progress",
    "Proof",
    "QualityReport",
    "Recorded",
    "Recorder",
    "Residuals",
    "Saving",
    "SensitivityStep",
    "ShouldStop",
    "SingleParameterSolution",
    "SleepAgreement",
    "SleepDepth",
    "SmallestSet",
    "SourceRow",
    "SplitBy",
    "Stage",
    "StateColumn",
    "StateReturn",
    "StretchReading",
    "SuggestedChange",
    "SweepProgress",
    "Transition",
    "TriedCommand",
    "TriedInstrument",
    "Verdict",
    "WakeLedger",
    "Wakes",
    "WaveformSegment",
    "WholeCycles",
    "YearEffect",
    "YearOfLife",
]
