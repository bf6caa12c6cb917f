"""A folder that is recorded by mistake: one of nearly the same name lies beside it."""

from __future__ import annotations

from drawknife.core.model import Model
from drawknife.core.names import Place, ancestors, child, parent, rest_below
from drawknife.core.soundness import nearest


def near_folder(model: Model, place: Place) -> Place | None:
    """The place that was perhaps meant instead of one that is not recorded; None where nothing is near.

    Of the folders on the way, the first that is not there, nor above one that is, is looked at with those beside it.
    """
    store = next((s for s in model.stores if s.name == place.store), None)
    if store is None:
        return None
    there: set[str] = set()
    for folder in store.folders:
        at = folder.path
        while at not in there:
            there.add(at)
            at = parent(at)
    missing = [at for at in ancestors(place.path) if at not in there and at != "/"]
    if not missing:
        return None
    first = missing[-1]
    above = parent(first)
    beside = [p.rpartition("/")[2] for p in there if p != "/" and parent(p) == above]
    name = first.rpartition("/")[2]
    close = nearest(name, beside)
    if close is None or not _one_slip(name, close):
        return None
    return Place(place.store, child(above, close) + (rest_below(place.path, first) or ""))


def _one_slip(a: str, b: str) -> bool:
    """Do they differ by one or two letters, and not by a number at the end, as `line-1` and `line-2` do?"""
    if a.rstrip("0123456789") == b.rstrip("0123456789"):
        return False
    short, long = sorted((a.casefold(), b.casefold()), key=len)
    if len(long) - len(short) > 2 or len(short) < 4:
        return False
    before = 0
    while before < len(short) and short[before] == long[before]:
        before += 1
    after = 0
    while after < len(short) - before and short[-1 - after] == long[-1 - after]:
        after += 1
    return len(long) - before - after <= 2
