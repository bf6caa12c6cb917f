"""What a change may not do: break a promise that is to be kept always, or bring in one that is
broken.
"""

from __future__ import annotations

from datetime import date

from ..everybody.promises import Broken, broken_promises
from ..model.edits import ChangeRefused
from ..model.promises import Says
from ..model.soundness import Flaw
from ..prepared.prepared import Prepared
from .pairing import Renames


def broken_by(
    before: Prepared, after: Prepared, day: date, renames: Renames | None = None
) -> list[Broken]:
    """The promises of kind ``always`` for which a change is refused: kept before and broken
    afterwards, whether the model
    afterwards still has them or not; and those that are new, reworded, or were only watched, and
    are broken.
    """
    renames = renames or Renames()
    if not (before.model.promises or after.model.promises):
        return []
    carried = renames.carried(before.model) if renames else before.model
    there = {p.name: p for p in carried.promises}
    broken_before = {renames.name("promise", b.promise.name) for b in broken_promises(before, day)}
    held = {
        p.says: p for p in carried.promises if p.kept == "always" and p.name not in broken_before
    }
    for p in after.model.promises:
        was = there.get(p.name)
        reworded = (
            was is not None and was.says != p.says and not _only_struck(was.says, p.says, after)
        )
        if p.kept == "always" and (was is None or reworded or was.kept != "always"):
            held.setdefault(p.says, p)
    return broken_promises(after, day, tuple(held.values()))


def _only_struck(was: Says, now: Says, after: Prepared) -> bool:
    """Is a promise another only by names of those who went?

    Nobody reworded it then: one that was broken may stay so.
    """
    gone = set(was.subjects) - set(now.subjects)
    there = set(after.people.subjects)
    if (
        was.quantifier == "only" and now.quantifier == "nobody"
    ):  # of the names none is left, and so it is nobody's
        return now == was._replace(quantifier="nobody", subjects=now.subjects) and set(
            was.subjects
        ).isdisjoint(there)
    return (
        was._replace(subjects=now.subjects) == now
        and set(now.subjects) <= set(was.subjects)
        and gone.isdisjoint(there)
    )


def hold(before: Prepared, after: Prepared, day: date, renames: Renames | None = None) -> None:
    """:class:`ChangeRefused` with who breaks each promise, where, and by which line, if a change is
    refused for one.
    """
    found = broken_by(before, after, day, renames)
    if found:
        names = ", ".join(b.promise.name for b in found)
        word = "a promise that is" if len(found) == 1 else "promises that are"
        raise ChangeRefused(
            [Flaw((), b.text(), "the promise changed or taken away first") for b in found],
            f"it would break {word} always to be kept: {names}",
        )
