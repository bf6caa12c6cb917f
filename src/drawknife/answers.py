"""Every question that can be asked of a model, answered in the words of :mod:`messages`.

The service answers with this, and so does the command line on a model file: the answers are the same.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from functools import lru_cache
from typing import Any

from drawknife import messages as msg
from drawknife.core.access_map import AccessMap, Cell, access_of_all
from drawknife.core.compare import differences
from drawknife.core.division import bits_in
from drawknife.core.effective import effective_access
from drawknife.core.endpoints import tls_policy
from drawknife.core.explain import Check, Explanation, explain
from drawknife.core.findings import findings
from drawknife.core.gates import UnknownName, verdict
from drawknife.core.judgement import Judgement
from drawknife.core.listing import list_as, subfolders
from drawknife.core.model import Account, Endpoint
from drawknife.core.names import (
    BadValue,
    Place,
    ancestors,
    check_path,
    child,
    depth,
    fold,
    join,
    parse_place,
    rest_below,
    tree_key,
)
from drawknife.core.namespace import Location
from drawknife.core.prepared import Prepared, PreparedAccount
from drawknife.core.question import GATES, Question, Refusal
from drawknife.core.rights import FILE_RIGHTS, INDEX, RIGHTS, format_rights, perm_word
from drawknife.core.settings import resolve_all
from drawknife.core.signin import expired
from drawknife.core.soundness import nearest
from drawknife.core.who import almost, holders
from drawknife.formats.questions import BadQuestion, read_question


class NoSuch(LookupError):
    """Something that was named does not exist. `near` is the nearest name that does."""

    def __init__(self, key: str, kind: str, name: str, names: Iterable[str]) -> None:
        self.key, self.kind, self.name = key, kind, name
        self.near = nearest(name, names)
        hint = f"; did you mean {self.near}?" if self.near else ""
        super().__init__(f"there is no {kind} {name!r}{hint}")


class BadInput(ValueError):
    """A value that cannot be understood: where, what stands there, what would be right."""

    def __init__(self, where: str, message: str, expected: str) -> None:
        super().__init__(f"{where}: {message}" + (f"; expected {expected}" if expected else ""))
        self.where, self.message, self.expected = where, message, expected


def check_right(right: str) -> str:
    """A right; :class:`BadInput` if it is none."""
    if right not in INDEX:
        raise BadInput("right", f"{right!r} is no right", "one of " + ", ".join(RIGHTS))
    return right


def check_location(text: str, where: str = "location") -> str:
    """A virtual location; :class:`BadInput` if it is none."""
    try:
        return check_path(text)
    except BadValue as bad:
        raise BadInput(where, str(bad), bad.expected) from None


class Answering:
    """Answers about one model. `revision` is told with each answer; `now` is the time they count from."""

    def __init__(self, prepared: Prepared, revision: int, now: datetime) -> None:
        self.prepared = prepared
        self.revision = revision
        self.now = now

    # --- looking things up --------------------------------------------------------------------

    def account(self, name: str, key: str = "account") -> PreparedAccount:
        found = self.prepared.account(name)
        if found is None:
            raise NoSuch(key, "account", name, (a.name for a in self.prepared.model.accounts))
        return found

    def endpoint(self, name: str | None) -> Endpoint | None:
        if name is None:
            return None
        found = self.prepared.endpoints.get(fold(name))
        if found is None:
            raise NoSuch("endpoint", "endpoint", name, (e.name for e in self.prepared.model.endpoints))
        return found

    def target(self, text: str) -> str | Place:
        """A virtual location, or a store folder written ``STORE:/path``."""
        if text.startswith("/"):
            return check_location(text, "at")
        try:
            place = parse_place(text)
        except BadValue as bad:
            raise BadInput("at", str(bad), "a location such as /inbox, or a folder such as survey:/inbox") from None
        for name in self.prepared.stores:
            if fold(name) == fold(place.store):
                return Place(name, place.path)
        raise NoSuch("at", "store", place.store, self.prepared.stores)

    def notes(self, account: PreparedAccount, endpoint: Endpoint | None) -> list[str]:
        """What has to be said with an answer that asks neither door nor sign-in."""
        said = [] if endpoint else ["signing in was not asked: this is what it can do once it is in"]
        if not account.account.enabled:
            said.append("the account is switched off: it cannot sign in")
        elif expired(account, self.now):
            said.append(f"the account expired with {account.account.expires}: it cannot sign in")
        return said

    # --- accounts -------------------------------------------------------------------------------

    def accounts(self, matching: str = "", offset: int = 0, limit: int | None = None) -> msg.AccountList:
        """Accounts whose name, display name, mail or unit holds `matching`, in order of names."""
        found: Sequence[Account] = self.prepared.model.accounts
        if matching:
            wanted = fold(matching)
            found = [a for a in found if wanted in fold(f"{a.name}\n{a.display or ''}\n{a.mail or ''}\n{a.unit or ''}")]
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.AccountList(
            revision=self.revision,
            total=len(found),
            accounts=[msg.AccountLine(**self._line(a)) for a in some],
        )

    def _line(self, a: Account) -> dict[str, Any]:
        return {
            "name": a.name, "kind": a.kind, "display": a.display, "mail": a.mail, "unit": a.unit,
            "enabled": a.enabled, "expires": a.expires, "source": a.source,
            "expired": a.expires is not None and self.now.date() > a.expires,
        }  # fmt: skip

    def account_detail(self, name: str) -> msg.AccountDetail:
        a = self.account(name)
        groups = [s.name for s, rank in a.standing.ranks.items() if rank == (1, 1)]
        home = str(a.account.home) if a.account.home else None
        return msg.AccountDetail(
            **self._line(a.account),
            home=home,
            methods=list(a.account.methods),
            groups=sorted(groups, key=fold),
        )

    def standing(self, name: str) -> msg.StandingAnswer:
        """What an account counts as, nearest first, and its settings."""
        a = self.account(name)
        standing = a.standing
        counted = [
            msg.Counted.model_validate(
                {
                    "subject": str(s),
                    "class": rank.cls,
                    "distance": rank.distance,
                    "chain": [str(x) for x in standing.chain(s)],
                }
            )
            for s, rank in sorted(standing.ranks.items(), key=lambda x: (x[1], fold(str(x[0]))))
        ]
        settings = [
            msg.SettingCame(
                name=c.name, value=c.value, subjects=[str(s) for s in c.subjects],
                chains=[[str(x) for x in standing.chain(s)] for s in c.subjects],
                overruled=[str(s) for s in c.overruled], undecided=c.undecided,
            )
            for c in resolve_all(self.prepared, a)
        ]  # fmt: skip
        return msg.StandingAnswer(
            revision=self.revision, account=self.account_detail(name), standing=counted, settings=settings
        )

    # --- access -----------------------------------------------------------------------------------

    def access(
        self,
        name: str,
        under: str = "/",
        endpoint: str | None = None,
        offset: int = 0,
        limit: int | None = None,
    ) -> msg.AccessAnswer:
        """The effective access of an account at and below a location."""
        a, way_in = self.account(name), self.endpoint(endpoint)
        rows, closed = effective_access(self.prepared, a, way_in, check_location(under, "under"))
        some = rows[offset:] if limit is None else rows[offset : offset + limit]
        return msg.AccessAnswer(
            revision=self.revision,
            account=a.name,
            endpoint=way_in.name if way_in else None,
            notes=self.notes(a, way_in),
            total=len(rows),
            rows=[
                msg.AccessRow(
                    location=row.location, kind=row.kind, place=row.place and str(row.place),
                    rights=dict(zip(RIGHTS, row.states, strict=True)),
                )
                for row in some
            ],
            not_served=[msg.NotServed(path=u.path, reason=u.reason, text=u.text) for u in closed],
        )  # fmt: skip

    def listing(self, name: str, location: str, endpoint: str | None = None) -> msg.ListingAnswer:
        """What an account sees where it lists a location."""
        a = self.account(name)
        at = check_location(location)
        answer, seen = list_as(self.prepared, a, at, self.now, self.endpoint(endpoint))
        return msg.ListingAnswer(
            revision=self.revision, account=a.name, location=at, allowed=answer.allowed, text=answer.text,
            folders=[
                msg.SeenFolder(name=s.name, location=s.location, kind=s.kind, place=s.place and str(s.place)) for s in seen
            ],
        )  # fmt: skip

    # --- questions --------------------------------------------------------------------------------

    def decide(self, data: Any) -> dict[str, Any]:
        """The answer to one question, as plain data. Raises :class:`BadQuestion`."""
        question, wanted = read_question(data)
        try:
            if wanted:
                told = explain(self.prepared, question, self.now)
                return {**told.verdict.as_data(), "explanation": explanation_message(told).model_dump()}
            return verdict(self.prepared, question, self.now).as_data()
        except UnknownName as unknown:
            model = self.prepared.model
            names = [x.name for x in (model.endpoints if unknown.kind == "endpoint" else model.accounts)]
            near = nearest(unknown.name, names)
            raise BadQuestion(unknown.key, str(unknown), f"the name of an {unknown.kind}", near) from None

    # --- who, map, compare ------------------------------------------------------------------------

    def who(
        self,
        right: str,
        at: str,
        endpoint: str | None = None,
        but_for: str | None = None,
        offset: int = 0,
        limit: int | None = None,
    ) -> msg.WhoAnswer:
        """Everybody who has a right at a virtual location or a store folder."""
        check_right(right)
        target, way_in = self.target(at), self.endpoint(endpoint)
        stop = None if limit is None else offset + limit
        told: list[msg.HolderMessage] = []
        nearly: list[msg.AlmostMessage] = []
        if but_for is None:
            total, found = holders(self.prepared, right, target, way_in, offset, stop)
            told = [
                msg.HolderMessage(
                    account=h.account, state=h.state, location=h.location, virtual_path=h.virtual_path,
                    place=h.place and str(h.place), decided_at=h.decided_at and str(h.decided_at),
                    decided_by=h.decided_by and str(h.decided_by), chain=[str(s) for s in h.chain],
                )
                for h in found
            ]  # fmt: skip
        else:
            if but_for not in GATES[2:5]:
                raise BadInput("but_for", f"{but_for!r} is no gate for this", " or ".join(GATES[2:5]))
            missing = almost(self.prepared, right, target, but_for, way_in)
            total = len(missing)
            nearly = [
                msg.AlmostMessage(account=x.account, location=x.location, obstacles=_obstacles(x.obstacles))
                for x in missing[offset:stop]
            ]
        return msg.WhoAnswer(
            revision=self.revision, right=right, at=str(target), endpoint=way_in.name if way_in else None,
            but_for=but_for, total=total, holders=told, almost=nearly,
        )  # fmt: skip

    def compare(
        self,
        one: str,
        other: str,
        under: str = "/",
        endpoint: str | None = None,
        offset: int = 0,
        limit: int | None = None,
        other_model: Prepared | None = None,
    ) -> msg.CompareAnswer:
        """Where two accounts differ; with `other_model`, the second is taken from that."""
        there = Answering(other_model, self.revision, self.now) if other_model is not None else self
        a, b = self.account(one, "one"), there.account(other, "other")
        here_in, there_in = self.endpoint(endpoint), there.endpoint(endpoint)
        found = differences(
            (self.prepared, a), (there.prepared, b), (here_in, there_in), check_location(under, "under")
        )
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.CompareAnswer(
            revision=self.revision,
            one=a.name,
            other=b.name,
            total=len(found),
            differences=[
                msg.DifferenceMessage(
                    location=d.location, right=d.right, one=d.one, other=d.other,
                    why_one=self.why_state(a, d.location, d.right, d.one, endpoint),
                    why_other=there.why_state(b, d.location, d.right, d.other, endpoint),
                )
                for d in some
            ],
        )  # fmt: skip

    def why_state(
        self, account: PreparedAccount, location: str, right: str, state: str | None, endpoint: str | None
    ) -> str:
        """One sentence for why a right has this state at a location."""
        owner = account.name if state == "own" else None
        path = example_path(location, right)
        told = explain(self.prepared, Question(account.name, right, path, owner=owner, endpoint=endpoint), self.now)
        in_question = [r for r in told.obstacles if r.gate not in ("door", "sign-in", "limits")]
        if in_question:
            return in_question[0].text
        return told.checks[0].judgement.text if told.checks else told.verdict.text

    def map(self, wanted: MapWindow) -> msg.MapAnswer:
        """A window of the map."""
        names = wanted.choose_accounts(self)
        way_in = self.endpoint(wanted.endpoint)
        locations = wanted.choose_locations(self, way_in)
        rows = names[wanted.account_offset :][: wanted.account_limit]
        columns = locations[wanted.location_offset :][: wanted.location_limit]
        return msg.MapAnswer(
            revision=self.revision, right=wanted.right, endpoint=way_in.name if way_in else None,
            total_accounts=len(names), total_locations=len(locations),
            accounts=[self.prepared.people.accounts[i].name for i in rows], locations=columns,
            cells=map_cells(self.prepared, rows, columns, wanted.right, way_in, wanted.store),
        )  # fmt: skip

    # --- places -----------------------------------------------------------------------------------

    def stores(self) -> msg.StoreList:
        """The stores."""
        return msg.StoreList(
            revision=self.revision,
            stores=[
                msg.StoreLine(
                    name=s.name, root=s.root, baseline=s.baseline, capacity=s.capacity, folders=len(s.folders),
                    entries=sum(len(f.entries) for f in s.folders),
                )
                for s in self.prepared.model.stores
            ],
        )  # fmt: skip

    def folder(self, text: str) -> msg.FolderAnswer:
        """One folder of a store, recorded or not, and what lies directly in it."""
        place = self.target(text)
        if isinstance(place, str):
            raise BadInput("place", f"{text!r} names no store", "a folder such as survey:/inbox")
        store = self.prepared.stores[place.store]
        levels = []
        for up, at in enumerate(ancestors(place.path)):
            f = store.folder(at)
            entries = [msg.EntryPartMessage(entry=str(e), fate="", by=None, chain=[]) for e in f.entries] if f else []
            levels.append(
                msg.LevelMessage(
                    place=str(Place(store.name, at)), up=up, sealed=bool(f and f.sealed), recorded=f is not None,
                    owner=f.owner if f else None, entries=entries,
                )
            )  # fmt: skip
        here = levels[0]
        lines = []
        for name in subfolders(store, place.path):
            at = child(place.path, name)
            f = store.folder(at)
            lines.append(
                msg.FolderLine(
                    name=name, place=str(Place(store.name, at)), recorded=f is not None, sealed=bool(f and f.sealed),
                    owner=f.owner if f else None, entries=len(f.entries) if f else 0,
                )
            )  # fmt: skip
        leading = [v.path for v in self.prepared.model.virtual_paths if _may_lead_to(v.leads_to, place)]
        return msg.FolderAnswer(
            revision=self.revision, place=here.place, recorded=here.recorded, sealed=here.sealed, owner=here.owner,
            entries=[e.entry for e in here.entries], above=levels[1:], locations=list(dict.fromkeys(leading)), folders=lines,
        )  # fmt: skip

    def virtual_paths(self) -> msg.VirtualPathList:
        """The virtual paths, in tree order."""
        return msg.VirtualPathList(
            revision=self.revision,
            virtual_paths=[
                msg.VirtualPathLine(
                    path=v.path, leads_to=v.leads_to, listing=v.listing, grants=[str(g) for g in v.grants]
                )
                for v in self.prepared.model.virtual_paths
            ],
        )

    def endpoints(self) -> msg.EndpointList:
        """The endpoints, and which of them do not start, and why."""
        lines = []
        for e in self.prepared.model.endpoints:
            clash = self.prepared.stopped_by.get(e.name)
            lines.append(
                msg.EndpointLine(
                    name=e.name, protocol=e.protocol, address=e.address, port=e.port,
                    passive_ports=f"{e.passive_ports[0]}-{e.passive_ports[1]}" if e.passive_ports else None,
                    tls=tls_policy(e), host_names=list(e.host_names), enabled=e.enabled,
                    entries=[f"{x.effect} {x.subject} {format_rights(x.rights)}" for x in e.entries],
                    starts=e.enabled and clash is None, clash=clash.text if clash else None,
                )
            )  # fmt: skip
        return msg.EndpointList(revision=self.revision, endpoints=lines)

    def overview(self) -> msg.Overview:
        """How much there is of everything, and what wants attention."""
        model = self.prepared.model
        counts = {name: len(getattr(model, name)) for name in model.__dataclass_fields__}
        counts["folders"] = sum(len(s.folders) for s in model.stores)
        counts["entries"] = sum(len(f.entries) for s in model.stores for f in s.folders)
        return msg.Overview(revision=self.revision, counts=counts, findings=self.findings().findings)

    def findings(self) -> msg.FindingList:
        """What wants attention though no rule is broken."""
        found = findings(self.prepared)
        return msg.FindingList(
            revision=self.revision,
            findings=[msg.FindingMessage(kind=f.kind, about=f.about, text=f.text) for f in found],
        )


class MapWindow:
    """Which accounts and locations of the map are wanted, and which part of them.

    `matching`, `group` and `unit` choose accounts; `under`, `deepest` and `store` choose locations.
    """

    def __init__(
        self,
        right: str | None = None,
        endpoint: str | None = None,
        matching: str = "",
        group: str | None = None,
        unit: str | None = None,
        store: str | None = None,
        under: str = "/",
        deepest: int | None = None,
        account_offset: int = 0,
        account_limit: int | None = None,
        location_offset: int = 0,
        location_limit: int | None = None,
    ) -> None:
        self.right = check_right(right) if right is not None else None
        self.endpoint, self.matching, self.group, self.unit, self.store = (
            endpoint,
            matching,
            group,
            unit,
            store,
        )
        self.under, self.deepest = check_location(under, "under"), deepest
        self.account_offset, self.account_limit = account_offset, account_limit
        self.location_offset, self.location_limit = location_offset, location_limit

    def choose_accounts(self, answering: Answering) -> list[int]:
        """The indices of the accounts chosen, in order of names."""
        people = answering.prepared.people
        chosen = set(range(len(people.accounts)))
        if self.group is not None or self.unit is not None:
            map_ = access_of_all(answering.prepared)
            for kind, name in (("group", self.group), ("unit", self.unit)):
                if name is not None:
                    subject = next((s for s in people.subjects if s.kind == kind and fold(s.name) == fold(name)), None)
                    if subject is None:
                        raise NoSuch(kind, kind, name, (s.name for s in people.subjects if s.kind == kind))
                    bits = map_.division.bits.get(people.number(subject), 0)
                    chosen &= {i for i in chosen if bits >> i & 1}
        if self.matching:
            wanted = fold(self.matching)
            chosen = {i for i in chosen if wanted in fold(people.accounts[i].name)}
        return sorted(chosen)

    def choose_locations(self, answering: Answering, endpoint: Endpoint | None) -> list[str]:
        """The locations chosen, in tree order."""
        prepared = answering.prepared
        if self.store is not None and fold(self.store) not in map(fold, prepared.stores):
            raise NoSuch("store", "store", self.store, prepared.stores)
        key = f"locations:{fold(self.store) if self.store else ''}"
        every = prepared.derived.get(key)
        if not isinstance(every, list):
            every = prepared.derived[key] = all_locations(prepared, self.store)
        if self.under == "/" and self.deepest is None:
            return every
        return [
            x
            for x in every
            if (self.under == "/" or rest_below(x, self.under) is not None)
            and (self.deepest is None or depth(x) - depth(self.under) <= self.deepest)
        ]


def all_locations(prepared: Prepared, store: str | None = None) -> list[str]:
    """Every location of any account's namespace, in tree order; of one store, if one is given."""
    division = access_of_all(prepared).division
    found = {at for at in division.above if division.synthetic_at(at)} if store is None else set()
    for name, starting in division.starting.items():
        if store is not None and fold(name) != fold(store):
            continue
        ready = prepared.stores[name]
        for top, segments in starting.items():
            start, stop = ready.branch(top)
            cut = 0 if top == "/" else len(top)
            rests = [f.path[cut:] for f in ready.store.folders[start:stop] if f.path != top]
            for path in {s.path for s in segments if not s.inner}:
                prefix = "" if path == "/" else path
                found.add(path)
                found.update([prefix + rest for rest in rests])
            for segment in (s for s in segments if s.inner):
                found.add(segment.path)
                below = (join(segment.path, rest) for rest in rests)
                found.update(at for at in below if segment.members & ~division.overlaid_at(segment, at))
    return sorted(found, key=tree_key)


def map_cells(
    prepared: Prepared,
    accounts: Sequence[int],
    locations: Sequence[str],
    right: str | None,
    endpoint: Endpoint | None = None,
    store: str | None = None,
) -> list[list[str | None]]:
    """The cells of a window of the map, a list for each account: a state, or a perm word."""
    map_ = AccessMap(prepared, accounts, endpoint)
    column = {location: j for j, location in enumerate(locations)}
    cells: list[list[str | None]] = [[None] * len(locations) for _ in accounts]
    r = INDEX[right] if right is not None else -1
    for cell in map_.at(locations):
        j = column.get(cell.location)
        if j is None or not _in_namespace(prepared, cell):
            continue
        if store is not None and (cell.place is None or fold(cell.place.store) != fold(store)):
            continue
        for members, states in alike(cell, (r,) if right is not None else tuple(range(len(RIGHTS)))):
            shown = states[0] if right is not None else _word(states)
            for i in bits_in(members):
                cells[i][j] = shown
    return cells


_word = lru_cache(1 << 14)(perm_word)


def alike(cell: Cell, rights: tuple[int, ...]) -> Iterator[tuple[int, tuple[str, ...]]]:
    """The accounts of a cell, those together that have the same states of these rights."""
    left = cell.members
    while left:
        one = (left & -left).bit_length() - 1
        same = left
        states = []
        for r in rights:
            for sets in (cell.plain, cell.owning):
                same &= sets[r] if sets[r] >> one & 1 else ~sets[r]
            states.append(cell.state(r, one))
        yield same, tuple(states)
        left &= ~same


def _in_namespace(prepared: Prepared, cell: Cell) -> bool:
    """Is the cell's location one of the namespace's: synthetic, a virtual path, or a recorded folder?"""
    if cell.segment is None or cell.place is None or cell.location == cell.segment.path:
        return True
    return prepared.stores[cell.place.store].folder(cell.place.path) is not None


def example_path(location: str, right: str) -> str:
    """What a question about a right at a location acts on: something in it, or the folder itself."""
    if right in FILE_RIGHTS or right == "upload":
        return child(location, "any-file")
    return child(location, "new-folder") if right == "make-folder" else location


def _obstacles(found: Iterable[Refusal]) -> list[msg.Obstacle]:
    return [msg.Obstacle(gate=r.gate, reason=r.reason, text=r.text) for r in found]


def explanation_message(told: Explanation) -> msg.ExplanationMessage:
    """An explanation in the words of messages."""
    sites = told.case.sites
    return msg.ExplanationMessage(
        obstacles=_obstacles(told.obstacles),
        locations=[_resolved(x, told.case.account) for x in (sites.here, sites.there) if x is not None]
        if told.case.question.action != "sign-in"
        else [],
        gates=[
            msg.GateMessage(gate=g.gate, asked=g.asked, obstacles=_obstacles(g.obstacles), notes=list(g.notes))
            for g in told.gates
        ],
        checks=[_check(c) for c in told.checks],
    )


def _resolved(at: Location, account: PreparedAccount) -> msg.ResolvedMessage:
    standing = account.standing.ranks
    grants = [str(g) for v in at.served.sources for g in v.grants if g.subject in standing] if at.served else []
    return msg.ResolvedMessage(
        location=at.location, place=at.place and str(at.place), virtual_path=at.served and at.served.path,
        ceiling=format_rights(at.served.ceiling) if at.served else None, grants=grants, synthetic=at.synthetic,
    )  # fmt: skip


def _check(c: Check) -> msg.CheckMessage:
    return msg.CheckMessage(
        passing=[msg.PassingMessage(place=str(p.place), allowed=p.allowed) for p in c.passing],
        judgement=_judgement(c.judgement),
        blocked=[_judgement(j) for j in c.blocked],
    )


def _judgement(j: Judgement) -> msg.JudgementMessage:
    return msg.JudgementMessage(
        right=j.right, place=str(j.place), own=j.own, allowed=j.allowed, reason=j.reason, text=j.text,
        decided_at=j.decided_at and str(j.decided_at), decided_by=j.decided_by and str(j.decided_by),
        levels=[
            msg.LevelMessage(
                place=str(x.place), up=x.up, sealed=x.sealed, recorded=x.recorded, owner=x.owner,
                entries=[
                    msg.EntryPartMessage(entry=str(e.entry), fate=e.fate, by=e.by, chain=[str(s) for s in e.chain])
                    for e in x.entries
                ],
            )
            for x in j.levels
        ],
    )  # fmt: skip


def decide_lines(answering: Answering, lines: Iterable[Any]) -> Iterator[dict[str, Any]]:
    """The answer to each question, or the error that stands in its place."""
    for data in lines:
        try:
            yield answering.decide(data)
        except BadQuestion as bad:
            yield bad.as_data()


def _may_lead_to(leads_to: str, place: Place) -> bool:
    """Could a virtual path lead somebody to `place` or above it? Placeholders may stand for anything."""
    store, _, path = leads_to.partition(":")
    fixed = path.partition("{")[0].rstrip("/") or "/"
    return fold(store) == fold(place.store) and rest_below(place.path, fixed) is not None
