"""Trial files: who does what, step by step, and whether it is to be let
(docs/reference/trials.md).
"""

from __future__ import annotations

from collections.abc import Iterable

import yaml

from drawknife.core.model.kinds import TRIAL
from drawknife.core.model.trials import Trial, mistakes_of
from drawknife.formats.document import BadDocument, Mistake, Places, read_document
from drawknife.formats.model_file import read_section

HEAD = "drawknife-trials"


def read_trials(raw: bytes) -> list[Trial]:
    """The trials of a file. :class:`BadDocument` with every mistake and its place."""
    data, text = read_document(raw)
    if not isinstance(data, dict) or data.get(HEAD) != 1:
        expected = f"`{HEAD}: 1`, the version of the format"
        raise BadDocument([Mistake((), 1, "", "this is no file of trials", expected, None)])
    if not isinstance(data.get(TRIAL.section), list):
        raise BadDocument(
            [Mistake((TRIAL.section,), 1, "", "there are no trials", "a list of trials", None)]
        )
    named = [
        {"name": f"trial {i}", **item} if isinstance(item, dict) else item
        for i, item in enumerate(data[TRIAL.section], 1)
    ]
    found: list[Trial] = list(read_section(TRIAL.section, {TRIAL.section: named}, text))
    places = Places(text)
    wrong = [
        Mistake(
            (TRIAL.section, i, *where),
            places.line((TRIAL.section, i, *where)),
            "",
            said,
            right,
            None,
        )
        for i, trial in enumerate(found)
        for where, said, right in mistakes_of(trial)
    ]
    if wrong:
        raise BadDocument(wrong)
    return found


def write_trials(trials: Iterable[Trial]) -> str:
    """Trials as a file."""
    written = [
        {**TRIAL.data(trial), "steps": [{step.says: step.expects} for step in trial.steps]}
        for trial in trials
    ]
    made: str = yaml.safe_dump(
        {HEAD: 1, TRIAL.section: written}, sort_keys=False, allow_unicode=True, width=120
    )
    return made.replace(": 'yes'\n", ": yes\n").replace(": 'no'\n", ": no\n")
