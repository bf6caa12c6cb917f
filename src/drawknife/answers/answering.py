"""Every question that can be asked of a model, answered in the words of :mod:`messages`.

The service answers with this, and so does the command line on a model file: the answers are the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import Any

from drawknife import messages as msg
from drawknife.answers.attention import attention
from drawknife.answers.limits import LimitAnswers, sessions_allowed
from drawknife.answers.map_window import MapWindow, map_cells
from drawknife.answers.people import PeopleAnswers
from drawknife.answers.telling import explanation_message, obstacle_messages
from drawknife.asking import check_location, check_right
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import UnknownName, verdict
from drawknife.core.decide.sign_in import TOLD_TO_CLIENTS, expired
from drawknife.core.everybody.compare import differences
from drawknife.core.everybody.effective import effective_access
from drawknife.core.everybody.findings import findings
from drawknife.core.everybody.listing import list_as, subfolders
from drawknife.core.everybody.who import almost, holders
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import Account, Endpoint
from drawknife.core.model.soundness import nearest
from drawknife.core.prepared.prepared import Prepared, PreparedAccount
from drawknife.core.prepared.question import GATES, Question, Verdict
from drawknife.core.prepared.settings import resolve_all
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, Place, ancestors, child, fold, parse_place, rest_below
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS, format_rights
from drawknife.formats.questions import as_data, read_question


class Answering(PeopleAnswers, LimitAnswers):
    """Answers about one model. `revision` is told with each answer; `now` is the time they count from.

    `known` adds to a question what is known of sign-ins: credentials, sessions that are open, and locks.
    `credentials` are what each account has to sign in with; None: not known. `seen` tells what was seen last of an
    endpoint's certificate; None: its file is looked at. `locked` tells who is locked out now, in the form in which
    names are compared; None: not known.
    """

    def __init__(
        self,
        prepared: Prepared,
        revision: int,
        now: datetime,
        known: Callable[[Question, datetime], Question] | None = None,
        credentials: Credentials = None,
        seen: Callable[[Endpoint], msg.CertificateAnswer | None] | None = None,
        locked: Callable[[], frozenset[str]] | None = None,
    ) -> None:
        self.prepared = prepared
        self.revision = revision
        self.now = now
        self.known = known
        self.credentials = credentials
        self.seen = seen
        self.locked = locked

    # --- looking things up --------------------------------------------------------------------

    def account(self, name: str, key: str = "account") -> PreparedAccount:
        found = self.prepared.account(name)
        if found is None:
            raise NotFound("account", name, (a.name for a in self.prepared.model.accounts), key)
        return found

    def endpoint(self, name: str | None) -> Endpoint | None:
        if name is None:
            return None
        found = self.prepared.endpoints.get(fold(name))
        if found is None:
            raise NotFound("endpoint", name, (e.name for e in self.prepared.model.endpoints), "endpoint")
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
        raise NotFound("store", place.store, self.prepared.stores, "at")

    def notes(self, account: PreparedAccount, endpoint: Endpoint | None) -> list[str]:
        """What has to be said with an answer that asks neither door nor sign-in."""
        said = [] if endpoint else ["signing in was not asked: this is what it can do once it is in"]
        if not account.account.enabled:
            said.append("the account is switched off: it cannot sign in")
        elif expired(account, self.now):
            said.append(f"the account expired with {account.account.expires}: it cannot sign in")
        return said

    # --- accounts -------------------------------------------------------------------------------

    def accounts(
        self,
        matching: str = "",
        offset: int = 0,
        limit: int | None = None,
        expires_within: int | None = None,
        off: bool = False,
        locked: bool = False,
        no_credential: bool = False,
        source: str | None = None,
    ) -> msg.AccountList:
        """Accounts whose name, display name, mail or unit holds `matching`, in order of names.

        Only those that expire within so many days (or have), that are switched off, that are locked out, that have
        nothing to sign in with, that come from a directory of this name: each if it is asked for.
        """
        found: Sequence[Account] = self.prepared.model.accounts
        if matching:
            wanted = fold(matching)
            found = [a for a in found if wanted in fold(f"{a.name}\n{a.display or ''}\n{a.mail or ''}\n{a.unit or ''}")]
        if expires_within is not None:
            last = self.now.date() + timedelta(days=expires_within)
            found = [a for a in found if a.expires is not None and a.expires <= last]
        if off:
            found = [a for a in found if not a.enabled]
        if source is not None:
            found = [a for a in found if fold(a.source) == fold(source)]
        if no_credential:
            if self.credentials is None:
                raise BadInput("no_credential", "a model file does not say who has a credential", "a service")
            found = [a for a in found if self._has_credential(a) is False]
        who: frozenset[str] | None = None
        if locked:
            if self.locked is None:
                raise BadInput("locked", "a model file does not say who is locked out", "a service")
            who = self.locked()
            found = [a for a in found if fold(a.name) in who]
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.AccountList(
            revision=self.revision, total=len(found),
            accounts=[msg.AccountLine(**self._line(a), locked=None if who is None else True) for a in some],
        )  # fmt: skip

    def _has_credential(self, a: Account) -> bool | None:
        if self.credentials is None or a.kind == "anonymous":
            return None
        return bool(self.credentials.get(a.name, frozenset()) & set(a.methods))

    def _line(self, a: Account) -> dict[str, Any]:
        return {
            "name": a.name, "kind": a.kind, "display": a.display, "mail": a.mail, "unit": a.unit,
            "enabled": a.enabled, "expires": a.expires, "source": a.source, "credential": self._has_credential(a),
            "expired": a.expires is not None and self.now.date() > a.expires,
        }  # fmt: skip

    def account_detail(self, name: str) -> msg.AccountDetail:
        a = self.account(name)
        groups = [s.name for s, rank in a.standing.ranks.items() if rank == (1, 1)]
        home = str(a.account.home) if a.account.home else None
        return msg.AccountDetail(
            **self._line(a.account), home=home, methods=list(a.account.methods), groups=sorted(groups, key=fold)
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
        self, name: str, under: str = "/", endpoint: str | None = None, offset: int = 0, limit: int | None = None
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
        """The answer to one question, as plain data. Raises :class:`BadInput`."""
        question, wanted = read_question(data)
        if self.known is not None and question.endpoint is not None:
            question = self.known(question, question.at or self.now)
        try:
            if wanted:
                told = explain(self.prepared, question, self.now)
                return {**_as_told(told.verdict), "explanation": explanation_message(told).model_dump()}
            return _as_told(verdict(self.prepared, question, self.now))
        except UnknownName as unknown:
            model = self.prepared.model
            names = [x.name for x in (model.endpoints if unknown.kind == "endpoint" else model.accounts)]
            near = nearest(unknown.name, names)
            raise BadInput(unknown.key, str(unknown), f"the name of an {unknown.kind}", near) from None

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
                msg.AlmostMessage(account=x.account, location=x.location, obstacles=obstacle_messages(x.obstacles))
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
        names = wanted.choose_accounts(self.prepared)
        way_in = self.endpoint(wanted.endpoint)
        locations = wanted.choose_locations(self.prepared)
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
                    never=list(map(str, e.never)), only=None if e.only is None else list(map(str, e.only)),
                    sessions_allowed=sessions_allowed(self.prepared, e),
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
        lasting = [msg.FindingMessage(kind=f.kind, about=f.about, text=f.text) for f in findings(self.prepared)]
        now = attention(self.prepared, self.now, self.certificate_of, self.credentials)
        return msg.FindingList(revision=self.revision, findings=[*lasting, *now])


def _as_told(found: Verdict) -> dict[str, Any]:
    """A verdict as plain data; of a refused sign-in also what the client is told, which gives no reason away."""
    data = found.as_data()
    return {**data, "told_to_client": TOLD_TO_CLIENTS} if found.gate == "sign-in" else data


def example_path(location: str, right: str) -> str:
    """What a question about a right at a location acts on: something in it, or the folder itself."""
    if right in FILE_RIGHTS or right == "upload":
        return child(location, "any-file")
    return child(location, "new-folder") if right == "make-folder" else location


def decide_lines(answering: Answering, lines: Iterable[Any]) -> Iterator[dict[str, Any]]:
    """The answer to each question, or the error that stands in its place."""
    for data in lines:
        try:
            yield answering.decide(data)
        except BadInput as bad:
            yield as_data(bad)


def _may_lead_to(leads_to: str, place: Place) -> bool:
    """Could a virtual path lead somebody to `place` or above it? Placeholders may stand for anything."""
    store, _, path = leads_to.partition(":")
    fixed = path.partition("{")[0].rstrip("/") or "/"
    return fold(store) == fold(place.store) and rest_below(place.path, fixed) is not None
