"""Reports for somebody to sign, and what takes away what is to go."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.handover import in_words
from drawknife.changing import apply
from drawknife.core.everybody.effective import state_of_folders_in
from drawknife.core.everybody.review import Reviewed, review, review_within
from drawknife.core.model.items import Group, parse_subject
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.errors import BadInput, NotFound, Refused
from drawknife.core.words.names import BadValue, Place, fold
from drawknife.core.words.rights import RIGHTS
from drawknife.core.words.sizes import number_of

#: A report of more rows is not gone through by anybody.
MOST_ROWS = 5000
_DELETE_FOLDER = RIGHTS.index("delete-folder")


class ReportAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about reports."""

    def report(self, about: str) -> tuple[str, str, list[msg.ReportRow], list[str]]:
        """What it is about, well spelled, its title, rows and notes.

        :class:`Refused` if it would be too long.
        """
        what = self.about(about)
        rows, notes = self._of_group(what) if isinstance(what, Group) else self._of_place(what)
        if len(rows) > MOST_ROWS:
            raise _too_long()
        notes = [*self.area_notes(), *notes]
        called = f"group:{what.name}" if isinstance(what, Group) else str(what)
        title = (
            f"Who is in the group {what.name}"
            if isinstance(what, Group)
            else f"Who can get at {what}"
        )
        return called, title, rows, notes

    def about(self, text: str) -> Place | Group:
        """A folder, the root of a store, or a group; :class:`BadInput`, :class:`NotFound`."""
        if text.startswith("group:"):
            try:
                name = parse_subject(text).name
            except BadValue as bad:
                raise BadInput("about", str(bad), bad.expected) from None
            found = next(
                (g for g in self.prepared.model.groups if fold(g.name) == fold(name)), None
            )
            if found is None:
                raise NotFound("group", name, (g.name for g in self.prepared.model.groups), "about")
            return found
        target = self.target(
            f"{text.removeprefix('store:')}:/" if text.startswith("store:") else text
        )
        if isinstance(target, str):
            raise BadInput(
                "about",
                f"{text} is a virtual location",
                "survey:/soundings, store:survey, or group:boats",
            )
        return target

    def _of_place(self, top: Place) -> tuple[list[msg.ReportRow], list[str]]:
        notes = ["Endpoints, sign-in and hours are not checked."]
        notes += self.disk_notes(stores={top.store})
        # A row comes of at most four lines: in the folder, and at three depths below it.
        found = review_within(self.prepared, top, 4 * MOST_ROWS)
        if found is None:
            raise _too_long()
        return self._rows(found), notes

    def _rows(self, found: Sequence[Reviewed]) -> list[msg.ReportRow]:
        """A row for those for whom all is the same at a place, in it and in the folders in it."""
        at: dict[tuple[str, str], dict[str, list[Reviewed]]] = {}
        for line in found:
            of = at.setdefault((str(line.place), line.location), {})
            for name in line.accounts:
                of.setdefault(name, []).append(line)
        rows: list[msg.ReportRow] = []
        for (place, location), of in at.items():
            alike: dict[tuple[str, tuple[int, ...]], list[str]] = {}
            for name, lines in of.items():
                deleting = self._deleting_in(name, location)
                alike.setdefault((deleting, tuple(map(id, lines))), []).append(name)
            for (deleting, _), names in alike.items():
                lines = of[names[0]]
                by = dict.fromkeys(f"{d.entry} on {d.at}" for line in lines for d in line.by)
                rows.append(
                    msg.ReportRow(
                        number=len(rows) + 1,
                        place=place,
                        location=location,
                        accounts=names,
                        may=_words(lines, deleting),
                        by=list(by),
                        to_decide=any(set(line.states) != {"no"} for line in lines),
                    )
                )
        return rows

    def _deleting_in(self, name: str, location: str) -> str:
        """The state of deleting a folder that is in the one at a location."""
        account = self.prepared.people.prepared(self.prepared.people.index[name])
        return state_of_folders_in(self.prepared, account, location, disk=True)

    def _of_group(self, group: Group) -> tuple[list[msg.ReportRow], list[str]]:
        rows = []
        for number, member in enumerate(group.members, 1):
            accounts = sorted(
                self.prepared.people.accounts[i].name for i in self._in(member.subject)
            )
            comes = (
                number_of(len(accounts), "account")
                if member.subject.kind != "account"
                else "a member"
            )
            rows.append(
                msg.ReportRow(
                    number=number,
                    place=f"group:{group.name}",
                    location=None,
                    accounts=accounts,
                    may=comes,
                    by=[str(member)],
                    to_decide=True,
                )
            )
        gives = [
            f"{e} on {s.name}:{f.path}"
            for s in self.prepared.model.stores
            for f in s.folders
            for e in f.entries
            if e.subject.key == ("group", fold(group.name))
        ]
        gives += [
            f"{v.path} is seen: {g}"
            for v in self.prepared.model.virtual_paths
            for g in v.grants
            if g.subject.key == ("group", fold(group.name))
        ]
        notes = [f"What the group gives: {line}" for line in gives[:50]]
        if len(gives) > 50:
            notes.append(f"and {len(gives) - 50} more: drawknife group show {group.name}")
        if group.source != "local":
            notes.append(
                f"It comes from the directory {group.source}: what is to go is taken out there."
            )
        return rows, notes

    def _in(self, subject: Any) -> list[int]:
        """The accounts that a member line brings."""
        people = self.prepared.people
        number = people.number(subject)
        return [i for i in range(len(people.accounts)) if number in people.prepared(i).who]

    def people_of(self, rows: Iterable[msg.ReportRow]) -> dict[str, str | None]:
        """Everybody whom some rows name, by name, with their display names."""
        named = {name for row in rows for name in row.accounts}
        return {
            a.name: a.display
            for a in sorted(self.full.model.accounts, key=lambda a: a.name)
            if a.name in named
        }

    # --- what is to go ---------------------------------------------------------------------------

    def taking_away(
        self, rows: Sequence[msg.ReportRow], numbers: Iterable[int]
    ) -> tuple[list[dict[str, Any]], list[str]]:
        """Changes after which nobody in some rows has what they say any more; and what those do not
        reach.

        An entry goes where all whom it lets at its folder are to go; else each account is denied
        there.
        """
        wanted = set(numbers)
        gone = [r for r in rows if r.number in wanted]
        changes: list[dict[str, Any]] = []
        members = [r for r in gone if r.location is None]
        there = {g.name: {m.says() for m in g.members} for g in self.full.model.groups}
        for name in dict.fromkeys(r.place.removeprefix("group:") for r in members):
            said = (r.by[0].partition(" until ")[0] for r in members if r.place == f"group:{name}")
            lines = [line for line in said if line in there.get(name, ())]
            if lines:
                changes.append(
                    {"op": "change", "kind": "group", "name": name, "drop": {"members": lines}}
                )
        accounts_there = {a.name for a in self.full.model.accounts}
        stores = {s.name for s in self.full.model.stores}
        places: dict[str, set[str]] = defaultdict(set)
        for r in gone:
            if r.location is not None and r.place.partition(":")[0] in stores:
                places[r.place].update(accounts_there & set(r.accounts))
        for place, accounts in places.items():
            changes += self._stopped(place, accounts, [r for r in rows if r.place == place])
        for place, accounts in _left(self.full, changes, places).items():
            if accounts:
                lines = [f"deny account:{name} all" for name in sorted(accounts)]
                changes.append(
                    {"op": "change", "kind": "folder", "name": place, "add": {"entries": lines}}
                )
        lost = [
            f"{name} still can get at {place}"
            for place, some in _left(self.full, changes, places).items()
            for name in sorted(some)
        ]
        return changes, lost + self._lost_though_kept(
            changes, [r for r in rows if r.number not in wanted]
        )

    def _stopped(
        self, place: str, accounts: set[str], rows: Sequence[msg.ReportRow]
    ) -> list[dict[str, Any]]:
        """The entries at a place that let nobody but these: they go."""
        store, _, path = place.partition(":")
        folder = self.full.stores[store].folder(path)
        there = set() if folder is None else {e.says() for e in folder.entries}
        let: dict[str, set[str]] = defaultdict(set)
        for row in rows:
            for line in row.by:
                entry, _, at = line.rpartition(" on ")
                if at == place:
                    let[entry.partition(" until ")[0]].update(row.accounts)
        drop = [entry for entry, who in let.items() if who <= accounts and entry in there]
        return (
            [{"op": "change", "kind": "folder", "name": place, "drop": {"entries": drop}}]
            if drop
            else []
        )

    def _lost_though_kept(
        self, changes: Sequence[dict[str, Any]], kept: Sequence[msg.ReportRow]
    ) -> list[str]:
        """What is to stay and goes all the same, as it hangs on what is to go above it."""
        of: dict[str, set[str]] = defaultdict(set)
        for row in kept:
            if row.location is not None and row.to_decide:
                of[row.place].update(row.accounts)
        before, after = _having(self.full, [], of), _having(self.full, changes, of)
        return [
            f"{name} would lose what was kept at {place}, which comes from above it: give it there"
            " first"
            for place, accounts in of.items()
            for name in sorted((before[place] - after[place]) & accounts)
        ]


def _left(
    prepared: Prepared, changes: Sequence[dict[str, Any]], places: Mapping[str, set[str]]
) -> dict[str, set[str]]:
    """Who of those that are to go still has some right at the place, after the changes."""
    having = _having(prepared, changes, places)
    return {place: having[place] & accounts for place, accounts in places.items()}


def _having(
    prepared: Prepared, changes: Sequence[dict[str, Any]], places: Iterable[str]
) -> dict[str, set[str]]:
    """Who has some right at some places, after some changes."""
    after = prepare(apply(prepared.model, list(changes)).model, prepared) if changes else prepared
    found = {}
    for text in places:
        store, _, path = text.partition(":")
        here = (
            r
            for r in review(after, Place(store, path))
            if r.place.path == path and set(r.states) != {"no"}
        )
        found[text] = {name for r in here for name in r.accounts}
    return found


def _too_long() -> Refused:
    return Refused(
        f"that would be over {MOST_ROWS:,} rows, which nobody goes through; ask of a folder further"
        " down"
    )


_IN = {1: "in the folders in it", 2: "in those in them", 3: "deeper"}


def _words(lines: Sequence[Reviewed], folders_in: str) -> str:
    """What may be done at a place and in the folders below it; `folders_in` is the state of
    deleting a folder in it.

    There is a line for each depth at which something is different. Whether the folders in a folder
    can be deleted is said of the folder, though the line is theirs.
    """
    at = {line.below: line.states for line in lines}
    said: list[str] = []
    before = ""
    if 0 not in at:
        said.append("the folders in it can" + ("not" if folders_in == "no" else "") + " be deleted")
    for depth in range(min(at), 4):
        states = _nearest(at, depth)
        deleting = folders_in if depth == 0 else _nearest(at, depth + 1)[_DELETE_FOLDER]
        words = (
            "nothing" if set(states) == {"no"} and deleting == "no" else in_words(states, deleting)
        )
        if words != before:
            said.append(words if depth == 0 else f"{_IN[depth]}: {words}")
        before = words
    return "; ".join(said)


def _nearest(at: Mapping[int, tuple[str, ...]], depth: int) -> tuple[str, ...]:
    """The states at a depth: those of the deepest line that is not below it."""
    return at[max(below for below in at if below <= depth)]


def still_there(
    rows: Sequence[msg.ReportRow],
    before: Sequence[msg.ReportRow],
    to_go: Iterable[int],
    signed: str,
) -> list[str]:
    """Whom the rows `to_go` of an earlier report name, and who still have something there, in
    words.
    """
    has = {(r.place, r.location, name) for r in rows if r.to_decide for name in r.accounts}
    went = set(to_go)
    lines = []
    for r in before:
        names = [name for name in r.accounts if (r.place, r.location, name) in has]
        if r.number in went and names:
            lines.append(f"{r.place}: {', '.join(names)} (row {r.number} of {signed})")
    return lines


def compared(
    rows: Sequence[msg.ReportRow], before: Sequence[msg.ReportRow]
) -> tuple[list[msg.ReportRow], list[str]]:
    """The rows, each with who did not have before what it says; and what was there before and is
    gone, in words.
    """
    had = {(r.place, r.location, name): r.may for r in before for name in r.accounts}
    has = {(r.place, r.location, name) for r in rows if r.to_decide for name in r.accounts}
    marked = [
        r.model_copy(
            update={
                "new": [
                    n
                    for n in r.accounts
                    if r.to_decide and had.get((r.place, r.location, n)) != r.may
                ]
            }
        )
        for r in rows
    ]
    gone: dict[tuple[str, str], list[str]] = defaultdict(list)
    for r in before:
        for name in r.accounts:
            if r.to_decide and (r.place, r.location, name) not in has:
                gone[r.place, r.may].append(name)
    return marked, [f"{place}: {', '.join(names)} ({may})" for (place, may), names in gone.items()]
