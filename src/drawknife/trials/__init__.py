"""Trials: what an administrator would do by hand after a change, written down once."""

from .running import Outcome, run_trial
from .trial_file import Step, Trial, read_trials, write_trials

__all__ = ["Outcome", "Step", "Trial", "read_trials", "run_trial", "write_trials"]
