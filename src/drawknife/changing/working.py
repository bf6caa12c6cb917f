"""A model in the making: its items by name, so that each of many changes costs the same.

What is put in is checked all at once, by :meth:`Working.settle`: each mistake is told with the
number of the change that brought it in.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from drawknife.core.model import edits
from drawknife.core.model.canonical import sound
from drawknife.core.model.items import Folder, Model, Setting, Store, UnitFacts, VirtualPath
from drawknife.core.model.kinds import KINDS, NETWORK_FIELDS
from drawknife.core.model.soundness import Flaw, Names, flaws
from drawknife.core.model.units import unit_facts
from drawknife.core.words.errors import NotFound
from drawknife.core.words.names import Place, fold, parse_place


class Working:
    """Items of a sound model, looked up and put by kind and name."""

    def __init__(self, model: Model) -> None:
        self._model = model
        self._items: dict[str, dict[str, Any]] = {}
        self._folders: dict[str, dict[str, Folder]] = {}
        #: By identity, what was put in and by which change. The item is kept, so that its identity
        #: is not another's.
        self._made: dict[int, tuple[Any, int]] = {}
        self._last = 0
        self._network: dict[str, tuple[Any, ...]] = {}
        self._unit_notes: dict[str, str | None] = {}
        self._names: Names | None = None
        self._by_path: dict[str, list[VirtualPath]] | None = None

    # --- looking up ------------------------------------------------------------------------------

    def _section(self, kind: str) -> dict[str, Any]:
        found = self._items.get(kind)
        if found is None:
            every = getattr(self._model, KINDS[kind].section)
            found = self._items[kind] = {_key(kind, x): x for x in every}
        return found

    def _store(self, name: str) -> Store:
        store: Store = self.find("store", name)
        return store

    def _in_store(self, store: str) -> dict[str, Folder]:
        found = self._folders.get(store)
        if found is None:
            there = next((s.folders for s in self._model.stores if s.name == store), ())
            found = self._folders[store] = {f.path: f for f in there}
        return found

    def _at_path(self, path: str) -> list[VirtualPath]:
        """The virtual paths at a path."""
        if self._by_path is None:
            self._by_path = {}
            for v in self._section("virtual-path").values():
                self._by_path.setdefault(v.path, []).append(v)
        return self._by_path.setdefault(path, [])

    def place(self, name: str) -> Place:
        """A folder's place, its store spelled as it is defined.

        :class:`NotFound` without the store.
        """
        place = parse_place(name)
        return Place(self._store(place.store).name, place.path)

    def folder(self, place: Place) -> Folder | None:
        """A folder as it is recorded; None if it is not."""
        return self._in_store(place.store).get(place.path)

    def find(self, kind: str, name: str) -> Any:
        """The item of that name; see :func:`drawknife.core.model.edits.find`."""
        if kind == "folder":
            place = self.place(name)
            there = self.folder(place)
            if there is None:
                near = [f"{place.store}:{p}" for p in list(self._in_store(place.store))[:10_000]]
                raise NotFound("recorded folder", name, near)
            return there
        items = self._section(kind)
        if kind == "virtual-path":
            return edits.one_virtual_path(list(self._at_path(name)) or list(items.values()), name)
        found = items.get(fold(name))
        if found is None:
            declared = KINDS[kind]
            raise NotFound(declared.title, name, [declared.called(x) for x in items.values()])
        return found

    def setting(self, subject: Any) -> tuple[Setting, bool]:
        """What is set for a subject, and whether it is new, as nothing is set yet."""
        if self._names is None:
            self._names = Names(self._model)
        spelled = self._names.subject(subject)
        found: Setting | None = self._section("setting").get(fold(str(spelled)))
        return found or Setting(spelled), found is None

    @property
    def lines(self) -> dict[str, tuple[Any, ...]]:
        """The lists of the network, by name."""
        return {
            f.name: self._network.get(f.name, getattr(self._model, f.name)) for f in NETWORK_FIELDS
        }

    # --- putting ---------------------------------------------------------------------------------

    def add(self, kind: str, item: Any, number: int, store: str = "") -> None:
        """Put in what must not be there yet."""
        self._last = number
        if kind == "folder":
            folders = self._in_store(store)
            if item.path in folders:
                raise edits.refuse(
                    f"folder {store}:{item.path} is recorded already", "a change of it"
                )
            folders[item.path] = item
        else:
            items, key = self._section(kind), _key(kind, item)
            if key in items:
                called = f"{KINDS[kind].title} {KINDS[kind].called(item)!r}"
                raise edits.refuse(f"{called} is there already", "a change of it, or another name")
            if kind == "virtual-path":
                self._at_path(item.path).append(item)
            items[key] = item
        self._made[id(item)] = (item, number)

    def change(self, kind: str, old: Any, new: Any, number: int, store: str = "") -> None:
        """Put `new` in the place of `old`, which has the same name."""
        self._last = number
        if kind == "folder":
            self._in_store(store)[new.path] = new
        elif kind == "virtual-path":
            self._at_path(old.path).remove(old)
            del self._section(kind)[_key(kind, old)]
            self._section(kind)[_key(kind, new)] = new
            self._at_path(new.path).append(new)
        else:
            self._section(kind)[_key(kind, new)] = new
        self._made[id(new)] = (new, number)

    def set_lines(self, lines: dict[str, tuple[Any, ...]], number: int) -> None:
        """Put the lists of the network."""
        self._network, self._last = lines, number

    def note_unit(self, path: str, note: str | None) -> None:
        """Put why a unit is there; None: nothing is said."""
        self._unit_notes[path] = note

    # --- settling --------------------------------------------------------------------------------

    def settle(self) -> Model:
        """The sound model of all that was put in; :class:`edits.ChangeRefused` with every problem,
        if there are any.
        """
        if not (self._made or self._network or self._unit_notes):
            return self._model
        parts: dict[str, tuple[Any, ...]] = {
            KINDS[kind].section: tuple(items.values()) for kind, items in self._items.items()
        }
        if self._unit_notes:
            known = self._model.facts_of_units()
            for path, note in self._unit_notes.items():
                known[path] = known.get(path, UnitFacts(path))._replace(note=note)
            parts["unit_facts"] = unit_facts(known.values())
        stores = parts.get("stores", self._model.stores)
        parts["stores"] = tuple(self._with_folders(s) for s in stores)
        made = replace(self._model, **parts, **self._network)
        found = flaws(made, self._model)
        if found:
            raise edits.ChangeRefused(
                [replace(p, where=("changes", self._number(made, p))) for p in found]
            )
        self.begin_with(sound(made, self._model))
        return self._model

    def begin_with(self, model: Model) -> None:
        """Go on from a sound model."""
        self.__init__(model)  # type: ignore[misc]

    def _with_folders(self, store: Store) -> Store:
        folders = self._folders.get(store.name)
        if folders is None:
            return store
        made = replace(store, folders=tuple(folders.values()))
        if id(store) in self._made:
            self._made[id(made)] = (made, self._made[id(store)][1])
        return made

    def _number(self, model: Model, problem: Flaw) -> int:
        """The change that brought a problem in; the last one, where that cannot be told."""
        item: Any = model
        number = self._last
        for step in problem.where:
            try:
                item = getattr(item, step) if isinstance(step, str) else item[step]
            except (AttributeError, IndexError, TypeError):
                break
            if id(item) in self._made:
                number = self._made[id(item)][1]
        return number


def _key(kind: str, item: Any) -> str:
    called = KINDS[kind].called(item)
    # Two virtual paths may differ in their listing and grants alone.
    return f"{called}\n{item.listing}\n{item.grants}" if kind == "virtual-path" else fold(called)
