"""Questions about groups and units, what comes down from them, and single items."""

from __future__ import annotations

from typing import Any

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.previews import access_changes, setting_changes
from drawknife.changing import subject_of
from drawknife.core.follows import comes_down
from drawknife.core.follows.comes_down import Given
from drawknife.core.model.edits import find
from drawknife.core.model.items import Subject, UnitFacts
from drawknife.core.model.kinds import KINDS, NETWORK, NETWORK_FIELDS, SUBJECT_KINDS, UNIT
from drawknife.core.model.removal import references
from drawknife.core.model.soundness import Names
from drawknife.core.model.units import unit_data
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, fold, parse_place, unit_ancestors


class PeopleAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about groups, units, and items."""

    # --- groups and units ------------------------------------------------------------------------

    def groups(
        self, matching: str = "", offset: int = 0, limit: int | None = None
    ) -> msg.GroupList:
        """The groups, with their direct members and how many accounts they come to."""
        held = self.prepared.people.held
        wanted = fold(matching)
        found = [g for g in self.full.model.groups if wanted in fold(g.name)]
        some = found[offset:] if limit is None else found[offset : offset + limit]
        lines = []
        for g in some:
            me = Subject("group", g.name)
            lines.append(
                msg.GroupLine(
                    name=g.name,
                    source=g.source,
                    members=[x.says() for x in g.members],
                    accounts=len(comes_down.members(self.prepared, me)),
                    held_by=[s.name for s in held.get(me, ())],
                )
            )
        return msg.GroupList(revision=self.revision, total=len(found), groups=lines)

    def units(self) -> msg.UnitList:
        """The units in tree order."""
        people = self.prepared.people
        known = self.prepared.model.facts_of_units()
        own: dict[str, int] = {}
        for a in people.accounts:
            if a.unit is not None:
                own[a.unit] = own.get(a.unit, 0) + 1
        return msg.UnitList(
            revision=self.revision,
            units=[
                msg.UnitLine(
                    path=u,
                    source=known.get(u, UnitFacts(u)).source,
                    accounts=own.get(u, 0),
                    all_accounts=len(comes_down.members(self.prepared, Subject("unit", u))),
                    held_by=[s.name for s in people.held.get(Subject("unit", u), ())],
                )
                for u in people.units
            ],
        )

    def _subject(self, text: str) -> Subject:
        """A group or a unit that exists, spelled as the model spells it."""
        subject = subject_of(text)
        if subject.kind not in ("group", "unit"):
            raise BadInput("subject", f"{text!r} is no group or unit", "group:NAME or unit:PATH")
        names = Names(self.prepared.model)
        spelled = names.subject(subject)
        if self.prepared.people.number(spelled) < 0:
            known = names.group if subject.kind == "group" else names.unit
            raise NotFound(subject.kind, subject.name, known.values(), "subject")
        return spelled

    def subject(self, text: str, offset: int = 0, limit: int | None = None) -> msg.SubjectDetail:
        """A group or unit: who is in it, and everything that comes down from it."""
        me = self._subject(text)
        model, people = self.prepared.model, self.prepared.people
        if me.kind == "group":
            group = find(self.full.model, "group", me.name)
            direct, source, note = list(map(self.line, group.members)), group.source, group.note
        else:
            inner = [f"account:{a.name}" for a in model.accounts if a.unit == me.name]
            inner += [f"unit:{u}" for u in model.units if unit_ancestors(u)[1:2] == [me.name]]
            direct = [msg.LineMessage(line=x, until=None, ended=False, note=None) for x in inner]
            known = model.facts_of_units().get(me.name, UnitFacts(me.name))
            source, note = known.source, known.note
        inside = comes_down.members(self.prepared, me)
        some = inside[offset:] if limit is None else inside[offset : offset + limit]
        accounts = []
        for index in some:
            account = people.prepared(index)
            standing = account.standing
            accounts.append(
                msg.MemberMessage(
                    account=account.name,
                    display=account.account.display,
                    distance=standing.ranks[me].distance,
                    chain=[str(s) for s in standing.chain(me)],
                )
            )
        return msg.SubjectDetail(
            revision=self.revision,
            subject=str(me),
            source=source,
            note=note,
            members=direct,
            held_by=[s.name for s in people.held.get(me, ())],
            total=len(inside),
            accounts=accounts,
            gives=[_given(g) for g in comes_down.gives(self.prepared, me)],
            settings=[
                msg.ReachMessage(
                    name=r.name,
                    value=r.value,
                    reaches=list(r.reaches),
                    nearer=[
                        msg.NearerMessage(account=a, subjects=list(map(str, s)))
                        for a, s in r.nearer
                    ],
                )
                for r in comes_down.setting_reach(self.prepared, me)
            ],
        )

    def ways(self, name: str, group: str | None = None) -> msg.WaysAnswer:
        """Each way in which an account came to be in each group, or in one."""
        account = self.account(name)
        inside = [s for s in account.standing.ranks if s.kind == "group"]
        if group is not None:
            me = self._subject(f"group:{group}" if ":" not in group else group)
            inside = [s for s in inside if s == me]
        found = [
            msg.WayMessage(
                group=s.name,
                chains=[list(map(str, c)) for c in comes_down.ways(self.prepared, account, s)],
            )
            for s in sorted(inside, key=lambda s: fold(s.name))
        ]
        return msg.WaysAnswer(revision=self.revision, account=account.name, groups=found)

    def without(self, name: str, subject: str) -> msg.LossAnswer:
        """What an account would lose if it were taken out of a group or unit."""
        account, me = (
            self.account(name),
            self._subject(subject if ":" in subject else f"group:{subject}"),
        )
        if me not in account.standing.ranks:
            raise BadInput(
                "subject", f"{account.name} is not in {me}", "a group or unit that it is in"
            )
        loss = comes_down.without(self.prepared, me, account)
        return msg.LossAnswer(
            revision=self.revision,
            account=account.name,
            subject=str(me),
            lines=[_given(g) for g in loss.lines],
            access=access_changes(loss.access),
            settings=setting_changes(loss.settings),
        )

    # --- items -----------------------------------------------------------------------------------

    def item(self, kind: str, name: str) -> msg.ItemMessage:
        """One item as the model file has it, and every place that names it."""
        model = self.full.model
        if kind == NETWORK:
            lines = {key.name: [str(x) for x in getattr(model, key.name)] for key in NETWORK_FIELDS}
            return msg.ItemMessage(
                revision=self.revision, kind=kind, name=NETWORK, item=lines, named_by=[]
            )
        self._check_kind(kind)
        try:
            found = find(model, kind, name)
            store = find(model, "store", parse_place(name).store).name if kind == "folder" else ""
        except BadValue as bad:
            raise BadInput("name", str(bad), bad.expected) from None
        called = f"{store}:{found.path}" if kind == "folder" else KINDS[kind].called(found)
        named_by = (
            references(model, kind, {called}) if kind in SUBJECT_KINDS or kind == "store" else ()
        )
        return msg.ItemMessage(
            revision=self.revision,
            kind=kind,
            name=called,
            item=self._data(kind, found),
            named_by=list(map(str, named_by)),
        )

    def items(self, kind: str, offset: int = 0, limit: int | None = None) -> msg.ItemList:
        """All items of one kind as the model file has them; folders are listed store by store."""
        self._check_kind(kind)
        if kind == "folder":
            every = [(f"{s.name}:{f.path}", f) for s in self.full.model.stores for f in s.folders]
        else:
            declared = KINDS[kind]
            every = [(declared.called(x), x) for x in getattr(self.full.model, declared.section)]
        some = every[offset:] if limit is None else every[offset : offset + limit]
        return msg.ItemList(
            revision=self.revision,
            kind=kind,
            total=len(every),
            items=[msg.NamedItem(name=name, item=self._data(kind, item)) for name, item in some],
        )

    def _check_kind(self, kind: str) -> None:
        if kind not in KINDS:
            raise BadInput("kind", f"{kind!r} is no kind of item", "one of " + ", ".join(KINDS))

    def _data(self, kind: str, item: Any) -> dict[str, Any]:
        if kind == UNIT.name:  # the model keeps beside it where it comes from, and why it is there
            data = unit_data(item, self.full.model.facts_of_units().get(item))
            return data if isinstance(data, dict) else {"path": data}
        found = KINDS[kind].alone(item)
        for field in KINDS[kind].lists:
            # A list that is not empty by default is told, too: who edits it has to see what is
            # there.
            if (
                field.default
                and field.name not in found
                and getattr(item, "kind", "") != "anonymous"
            ):
                found[field.name] = field.written(field.default)
        return found


def _given(g: Given) -> msg.GivenMessage:
    return msg.GivenMessage(
        kind=g.reference.kind,
        where=g.reference.name,
        line=g.reference.line,
        chain=[str(s) for s in g.chain],
    )
