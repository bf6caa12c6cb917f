"""A model made ready for many questions.

Names become small numbers, folders that carry nothing drop out of the way, and what is derived of
one part of the model is kept apart from the rest, so that :func:`prepare` can take over from the
revision before whatever has not changed.
"""

from __future__ import annotations

from bisect import bisect_left
from typing import NamedTuple

from ..model.endpoints import stopped_by
from ..model.items import Account, Endpoint, Entry, Folder, Model, Setting, Store, Subject
from ..model.standing import Rank, Standing, holders, standing
from ..words.names import depth as depth_of
from ..words.names import fold, parent, tree_key, unit_ancestors
from .namespace import Namespace, VirtualPaths, namespace_of

#: The number of the built-in subject ``owner``.
OWNER = 0

#: Standings are small but many: more than these are not kept.
KEPT_STANDINGS = 20_000


class Rule(NamedTuple):
    """An allow or deny entry as the walk reads it: its rights, its subject's number, its effect."""

    rights: int
    sid: int
    effect: bool


class PreparedAccount:
    """One account with the subjects it counts as, as numbers."""

    __slots__ = ("account", "index", "namespace", "people", "ranks", "who", "who_owning")

    def __init__(self, people: People, index: int, account: Account) -> None:
        self.people = people
        self.index = index
        self.account = account
        sid = people.sid
        self.ranks: dict[int, Rank] = {sid[s]: rank for s, rank in standing(account, people.held).ranks.items()}
        #: Matched by entries when the account does not own the thing acted on, and when it does.
        self.who = frozenset(self.ranks)
        self.who_owning = self.who | {OWNER}
        self.namespace: tuple[VirtualPaths, Namespace] | None = None

    @property
    def name(self) -> str:
        return self.account.name

    @property
    def standing(self) -> Standing:
        """The standing with its chains, which only sentences and explanations need."""
        return self.people.standing_of(self.account)


class People:
    """Accounts, groups and units: who counts as what."""

    def __init__(self, model: Model) -> None:
        #: By name as the model spells it, the accounts that were asked for already.
        self.asked: dict[str, PreparedAccount] = {}
        self.accounts = model.accounts
        self.groups = model.groups
        self.units = model.units
        self.index = {a.name: i for i, a in enumerate(model.accounts)}
        self.by_fold = {fold(a.name): i for i, a in enumerate(model.accounts)}
        self.held = holders(model.groups)
        subjects = [Subject("owner"), Subject("anyone"), Subject("signed-in"), Subject("anonymous")]
        subjects += [Subject("unit", u) for u in model.units]
        subjects += [Subject("group", g.name) for g in model.groups]
        subjects += [Subject("account", a.name) for a in model.accounts]
        self.subjects = subjects
        self.sid = {s: i for i, s in enumerate(subjects)}
        self._accounts: dict[int, PreparedAccount] = {}
        self._standings: dict[str, Standing] = {}
        #: Room for what is derived of the people alone.
        self.derived: dict[str, dict[int, int]] = {}

    def standing_of(self, account: Account) -> Standing:
        """The standing of an account; those asked for last are kept."""
        found = self._standings.get(account.name)
        if found is None:
            if len(self._standings) >= KEPT_STANDINGS:
                self._standings.clear()
            found = self._standings[account.name] = standing(account, self.held)
        return found

    def number(self, subject: Subject) -> int:
        """The number of a subject; -1, which nobody counts as, where it dangles."""
        return self.sid.get(subject, -1)

    def prepared(self, index: int) -> PreparedAccount:
        """The account at `index` of the model's accounts, prepared on first use and kept."""
        found = self._accounts.get(index)
        if found is None:
            found = self._accounts[index] = PreparedAccount(self, index, self.accounts[index])
            self.asked[found.name] = found
        return found

    def members(self) -> dict[int, int]:
        """For each subject's number the set of accounts that count as it, as bits by index."""
        count = len(self.accounts)
        everybody = (1 << count) - 1
        bits: dict[int, int] = {}
        direct_units: dict[str, list[int]] = {}
        public = 0
        base = len(self.subjects) - count
        for i, account in enumerate(self.accounts):
            bits[base + i] = 1 << i
            if account.kind == "anonymous":
                public |= 1 << i
            if account.unit is not None:
                direct_units.setdefault(account.unit, []).append(i)
        for path, indices in direct_units.items():
            here = bits_of(indices, count)
            for unit in unit_ancestors(path):
                number = self.number(Subject("unit", unit))
                bits[number] = bits.get(number, 0) | here
        for group in self.groups:
            singles = [self.index[m.name] for m in group.members if m.kind == "account" and m.name in self.index]
            found = bits_of(singles, count)
            for m in group.members:
                if m.kind == "unit":
                    found |= bits.get(self.number(m), 0)
            bits[self.sid[Subject("group", group.name)]] = found
        self._nest(bits)
        bits[self.sid[Subject("anyone")]] = everybody
        bits[self.sid[Subject("anonymous")]] = public
        bits[self.sid[Subject("signed-in")]] = everybody & ~public
        return bits

    def _nest(self, bits: dict[int, int]) -> None:
        """Bring the members of groups up into the groups that hold them, loops included."""
        inner = {
            self.sid[Subject("group", g.name)]: [self.number(m) for m in g.members if m.kind == "group"]
            for g in self.groups
        }
        order: list[int] = []
        seen: set[int] = set()
        for start in inner:
            todo = [(start, False)]
            while todo:
                group, done = todo.pop()
                if done:
                    order.append(group)
                elif group not in seen and group in inner:
                    seen.add(group)
                    todo.append((group, True))
                    todo += [(member, False) for member in inner[group]]
        changed = True
        while changed:  # once, and once more to see that nothing changed; oftener only in loops
            changed = False
            for group in order:
                found = bits[group]
                for member in inner[group]:
                    found |= bits.get(member, 0)
                if found != bits[group]:
                    bits[group] = found
                    changed = True


def bits_of(indices: list[int], count: int) -> int:
    """The set of these indices as bits."""
    if len(indices) < 8:
        small = 0
        for i in indices:
            small |= 1 << i
        return small
    raw = bytearray((count + 7) // 8)
    for i in indices:
        raw[i >> 3] |= 1 << (i & 7)
    return int.from_bytes(raw, "little")


class PreparedFolder:
    """A recorded folder that carries something: entries, a seal, or an owner.

    `up` is the nearest such folder above, `gap` levels away. `rules` and `forbids` hold what speaks
    at depth 0, at depth 1, and deeper. `varies` says that folders below without anything of their
    own need not all be alike. `forbids_above` says that there is a forbid here or above.
    """

    __slots__ = (
        "folder", "forbids", "forbids_above", "gap", "owner", "path", "ruled", "rules", "sealed", "sids", "up", "varies",
    )  # fmt: skip

    def __init__(self, folder: Folder, up: PreparedFolder | None, people: People) -> None:
        self.folder = folder
        self.path = folder.path
        self.up = up
        self.gap = depth_of(folder.path) - depth_of(up.path) if up is not None else 0
        self.owner = people.index.get(folder.owner, -1) if folder.owner is not None else -1
        self.sealed = folder.sealed
        self.sids = tuple(people.number(e.subject) for e in folder.entries)
        self.rules = _by_depth(folder.entries, people, forbid=False)
        self.forbids = _by_depth(folder.entries, people, forbid=True)
        self.ruled = 0
        self.forbids_above: int = up.forbids_above if up is not None else 0
        for entry in folder.entries:
            if entry.effect == "forbid":
                self.forbids_above |= entry.rights
            else:
                self.ruled |= entry.rights
        self.varies: bool = (
            any(e.reach != "tree" or e.subject.kind == "owner" for e in folder.entries)
            or (up is not None and up.varies)
        )  # fmt: skip


_NOTHING: tuple[tuple[Rule, ...], ...] = ((), (), ())
SPEAKS_AT = (("tree", "here"), ("tree", "below", "children"), ("tree", "below"))


def _by_depth(entries: tuple[Entry, ...], people: People, *, forbid: bool) -> tuple[tuple[Rule, ...], ...]:
    wanted = [e for e in entries if (e.effect == "forbid") is forbid]
    if not wanted:
        return _NOTHING
    if all(e.reach == "tree" for e in wanted):
        rules = tuple(Rule(e.rights, people.number(e.subject), e.effect == "allow") for e in wanted)
        return rules, rules, rules
    return tuple(
        tuple(Rule(e.rights, people.number(e.subject), e.effect == "allow") for e in wanted if e.reach in reaches)
        for reaches in SPEAKS_AT
    )


class PreparedStore:
    """One store: its recorded folders in tree order, and those among them that carry something."""

    def __init__(self, store: Store, people: People, before: PreparedStore | None = None) -> None:
        self.store = store
        self.name = store.name
        self.open = store.baseline == "open"
        folders = store.folders
        changed = None if before is None else _changed(before.store.folders, folders)
        if before is not None and changed is not None:
            self.order: list[str] = before.order
            self.marked: dict[str, PreparedFolder] = dict(before.marked)
            self._remake(folders, changed, people)
        else:
            self.order = [tree_key(f.path) for f in folders]
            self.marked = {}
            self._mark(folders, 0, len(folders), people)

    def _mark(self, folders: tuple[Folder, ...], start: int, stop: int, people: People) -> None:
        """Prepare the folders from `start` to `stop`, a whole branch, in tree order."""
        marked = self.marked
        trail: list[tuple[str, PreparedFolder]] = []
        if start < stop:
            above, _ = self.nearest(parent(folders[start].path)) if folders[start].path != "/" else (None, 0)
            if above is not None:
                trail = [("", above)]
        for i in range(start, stop):
            folder = folders[i]
            if not (folder.entries or folder.sealed or folder.owner is not None):
                continue
            key = self.order[i]
            while trail and trail[-1][0] and not key.startswith(trail[-1][0] + "\x00"):
                trail.pop()
            node = PreparedFolder(folder, trail[-1][1] if trail else None, people)
            marked[folder.path] = node
            # The root's key is empty: it is above everything and never popped.
            trail.append((key, node))

    def _remake(self, folders: tuple[Folder, ...], changed: list[int], people: People) -> None:
        """Prepare anew the changed folders and what lies below them."""
        done = -1
        for i in changed:
            if i < done:
                continue
            _, done = self.branch(folders[i].path)
            for j in range(i, done):
                self.marked.pop(folders[j].path, None)
            self._mark(folders, i, done, people)

    def nearest(self, path: str) -> tuple[PreparedFolder | None, int]:
        """The nearest folder at or above `path` that carries something, and how far up it is."""
        marked = self.marked
        up = 0
        while True:
            node = marked.get(path)
            if node is not None:
                return node, up
            if path == "/":
                return None, 0
            path = path[: path.rindex("/")] or "/"
            up += 1

    def branch(self, path: str) -> tuple[int, int]:
        """The range of positions of the recorded folders at `path` and below it."""
        if path == "/":
            return 0, len(self.order)
        key = tree_key(path)
        start = bisect_left(self.order, key)
        return start, bisect_left(self.order, key + "\x01", start)

    def recorded_below(self, path: str) -> tuple[Folder, ...]:
        """The recorded folders at `path` and below it."""
        start, stop = self.branch(path)
        return self.store.folders[start:stop]

    def exists(self, path: str) -> bool:
        """Is `path` recorded, or above a folder that is? The root always exists."""
        start, stop = self.branch(path)
        return path == "/" or start < stop

    def folder(self, path: str) -> Folder | None:
        """The recorded folder at `path`."""
        i = bisect_left(self.order, tree_key(path))
        if i < len(self.order) and self.store.folders[i].path == path:
            return self.store.folders[i]
        return None


def _changed(old: tuple[Folder, ...], new: tuple[Folder, ...]) -> list[int] | None:
    """Positions at which folders differ, where the paths are the same; None if they are not."""
    if len(old) != len(new):
        return None
    changed = [i for i, (a, b) in enumerate(zip(old, new, strict=True)) if a is not b and a != b]
    if len(changed) > 1000 or any(old[i].path != new[i].path for i in changed):
        return None
    return changed


class Prepared:
    """A model made ready. Immutable to its users; caches fill as questions are asked."""

    def __init__(self, model: Model, before: Prepared | None = None) -> None:
        self.model = model
        old = before
        if old is not None and _same(old.model, model, "accounts", "groups", "units"):
            self.people: People = old.people
        else:
            self.people = People(model)
            old = None
        self.stores: dict[str, PreparedStore] = {}
        for store in model.stores:
            was = old.stores.get(store.name) if old is not None else None
            if was is not None and was.store is store:
                self.stores[store.name] = was
            else:
                self.stores[store.name] = PreparedStore(store, self.people, was)
        if old is not None and _same(old.model, model, "virtual_paths"):
            self.virtual_paths: VirtualPaths = old.virtual_paths
        else:
            self.virtual_paths = VirtualPaths(model.virtual_paths, self.people.number)
        self.endpoints: dict[str, Endpoint] = {fold(e.name): e for e in model.endpoints}
        self.stopped_by = stopped_by(model.endpoints)
        self.settings: dict[int, Setting] = {self.people.number(s.subject): s for s in model.settings}
        #: Can the limits gate refuse anything at all?
        self.has_limits = bool(
            model.quotas
            or any(s.capacity is not None for s in model.stores)
            or any(key in ("upload_limit", "quota_bytes", "quota_files") for s in model.settings for key, _ in s.values)
        )
        #: Room for what other modules derive of the whole model, by their own keys.
        self.derived: dict[str, object] = {}

    def account(self, name: str) -> PreparedAccount | None:
        """The account of that name, whatever the case."""
        index = self.people.index.get(name)
        if index is None:
            index = self.people.by_fold.get(fold(name))
            if index is None:
                return None
        return self.people.prepared(index)

    def namespace(self, account: PreparedAccount) -> Namespace:
        """What the account sees, worked out on first use and kept."""
        kept = account.namespace
        if kept is None or kept[0] is not self.virtual_paths:
            kept = (self.virtual_paths, namespace_of(account.account, account.ranks, self.virtual_paths))
            account.namespace = kept
        return kept[1]


def _same(a: Model, b: Model, *sections: str) -> bool:
    return all(
        getattr(a, s) is getattr(b, s) or getattr(a, s) == getattr(b, s) for s in sections
    )  # fmt: skip


def prepare(model: Model, before: Prepared | None = None) -> Prepared:
    """Make `model` (in canonical form) ready, taking over from `before` what has not changed."""
    return Prepared(model, before)
