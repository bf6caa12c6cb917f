"""A folder that is recorded by mistake: one of nearly the same name lies beside it."""

from __future__ import annotations

from drawknife.core.model.items import Model
from drawknife.core.model.soundness import nearest
from drawknife.core.words.names import Place, ancestors, child, parent, rest_below

#: Who adds more folders at once does not write them by hand: the next are not looked at.
BY_HAND = 100


class NearFolders:
    """The folders of a model, recorded or above one that is, by what they lie in; made when they
    are first asked for.
    """

    def __init__(self, model: Model) -> None:
        self._model = model
        self._asked = 0
        self._inside: dict[str, dict[str, list[str]]] = {}

    def near(self, place: Place) -> Place | None:
        """The place that was perhaps meant instead of one that is not recorded; None where nothing
        is near.

        Of the folders on the way, the first that is not there, nor above one that is, is looked at
        with those beside it.
        """
        self._asked += 1
        if self._asked > BY_HAND:
            return None
        inside = self._of(place.store)
        above = next((at for at in ancestors(place.path) if at in inside), "/")
        beside = inside.get(above, [])
        rest = rest_below(place.path, above)
        if not rest:
            return None
        name = rest.strip("/").partition("/")[0]
        first = child(above, name)
        if first in beside:
            return None
        close = nearest(name, [p.rpartition("/")[2] for p in beside])
        if close is None or not _one_slip(name, close):
            return None
        return Place(place.store, child(above, close) + (rest_below(place.path, first) or ""))

    def _of(self, name: str) -> dict[str, list[str]]:
        """For each folder of a store that holds any, those directly in it."""
        found = self._inside.get(name)
        if found is None:
            found = self._inside[name] = {}
            known: set[str] = {"/"}
            for folder in next((s.folders for s in self._model.stores if s.name == name), ()):
                at = folder.path
                while at not in known:
                    known.add(at)
                    found.setdefault(parent(at), []).append(at)
                    at = parent(at)
        return found


def _one_slip(a: str, b: str) -> bool:
    """Do they differ by one or two letters, and not by a number at the end, as `line-1` and
    `line-2` do?
    """
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
