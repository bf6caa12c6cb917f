"""Trials: what an administrator would do by hand after a change, written down once."""

from .running import GateAnswer, Outcome, outcomes_of
from .trial_file import read_trials, write_trials

__all__ = ["GateAnswer", "Outcome", "outcomes_of", "read_trials", "write_trials"]
