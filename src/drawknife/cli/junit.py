"""What came of trials as JUnit XML, which tools that build and test read."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from drawknife.core.model.trials import Trial
from drawknife.trials import Outcome

from .common import WRONG_USAGE, fail


def write_junit(path: Path, done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    """Write the outcomes of trials, each with the name of what it comes from."""
    from junitparser import Failure, JUnitXml, TestCase, TestSuite

    xml = JUnitXml("drawknife")
    for name, trial, outcomes in done:
        suite = TestSuite(_plain(f"{name}: {trial.name}"))
        for x in outcomes:
            case = TestCase(_plain(x.step.says), classname=_plain(trial.name))
            if not x.as_expected:
                server = (
                    f"; the server: {x.server.text or x.server.allowed}"
                    if x.server is not None
                    else ""
                )
                case.result = [Failure(_plain(x.answer.text + server))]
            suite.add_testcase(case)
        xml.add_testsuite(suite)
    xml.update_statistics()  # type: ignore[no-untyped-call]
    try:
        xml.write(str(path), pretty=True)
    except OSError as error:
        fail(WRONG_USAGE, f"{path} cannot be written: {error.strerror}")


def _plain(text: str) -> str:
    """Without the control characters that XML cannot hold."""
    return "".join(c for c in text if c >= " " or c in "\t\n")
