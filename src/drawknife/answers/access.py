"""Questions about access: what somebody can do, may it do this, who can, and where two differ."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.explanations import explanation_message, obstacle_messages
from drawknife.answers.map_window import MapWindow, map_cells
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import UnknownName, verdict
from drawknife.core.decide.sign_in import TOLD_TO_CLIENTS
from drawknife.core.decide.trying import try_on
from drawknife.core.everybody.access_map import access_of_all
from drawknife.core.everybody.compare import differences
from drawknife.core.everybody.effective import effective_access
from drawknife.core.everybody.folding import FoldedAccess, folded_access
from drawknife.core.everybody.listing import list_as
from drawknife.core.everybody.promises import broken_promises
from drawknife.core.everybody.who import almost, who_has
from drawknife.core.follows.disk_changes import of_disks
from drawknife.core.model.items import Endpoint
from drawknife.core.model.kinds import TRIAL
from drawknife.core.model.soundness import nearest
from drawknife.core.prepared.namespace import Unserved
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question, Verdict
from drawknife.core.words.actions import GATES
from drawknife.core.words.checks import check_location, check_right
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import Place, ancestors, child, depth, fold
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.core.words.sizes import number_of
from drawknife.formats.questions import read_question


class AccessAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about access."""

    def access(
        self,
        name: str,
        under: str = "/",
        endpoint: str | None = None,
        offset: int = 0,
        *,
        limit: int | None = None,
        folded: bool = False,
        deepest: int | None = None,
        matching: str = "",
    ) -> msg.AccessAnswer:
        """The effective access of an account at and below a location.

        `folded`: a location that is as the one above it is only counted there. `deepest`: so many
        levels below the location at most. `matching`: only locations in which this text is; those
        are not folded.
        """
        a, way_in = self.account(name), self.endpoint(endpoint)
        at = check_location(under, "under")
        rows, closed, total = self._access(a, way_in, at, folded, matching)
        notes = self.notes(a, way_in)
        if deepest is not None:
            lowest = deepest + depth(at)
            left_out = sum(1 + row.below for row in rows if depth(row.location) > lowest)
            rows = [row for row in rows if depth(row.location) <= lowest]
            if left_out:
                notes.append(
                    f"{number_of(left_out, 'location')} deeper than {deepest} levels below {at} not"
                    " listed"
                )
        some = rows[offset:] if limit is None else rows[offset : offset + limit]
        return msg.AccessAnswer(
            revision=self.revision,
            account=a.name,
            endpoint=way_in.name if way_in else None,
            notes=notes,
            total=total,
            rows=[
                msg.AccessRow(
                    location=row.location,
                    kind=row.kind,
                    place=row.place and str(row.place),
                    rights=dict(zip(RIGHTS, row.states, strict=True)),
                    below=row.below,
                )
                for row in some
            ],
            not_served=[msg.NotServed(path=u.path, reason=u.reason, text=u.text) for u in closed],
        )

    def _access(
        self, a: PreparedAccount, way_in: Endpoint | None, at: str, folded: bool, matching: str
    ) -> tuple[list[FoldedAccess], list[Unserved], int]:
        if folded and not matching:
            return folded_access(self.prepared, a, way_in, at, disk=True)
        every, closed = effective_access(self.prepared, a, way_in, at, disk=True)
        wanted = fold(matching)
        rows = [
            FoldedAccess(*row, 0) for row in every if not wanted or wanted in fold(row.location)
        ]
        return rows, closed, len(rows)

    def access_rows(
        self,
        name: str,
        under: str = "/",
        endpoint: str | None = None,
        folded: bool = False,
        matching: str = "",
    ) -> Iterator[dict[str, Any]]:
        """The rows of :meth:`access` as plain data, each made when it is asked for."""
        rows, _, _ = self._access(
            self.account(name),
            self.endpoint(endpoint),
            check_location(under, "under"),
            folded,
            matching,
        )
        return (
            {
                "location": row.location,
                "kind": row.kind,
                "place": row.place and str(row.place),
                "rights": dict(zip(RIGHTS, row.states, strict=True)),
                "below": row.below,
            }
            for row in rows
        )

    def listing(self, name: str, location: str, endpoint: str | None = None) -> msg.ListingAnswer:
        """What an account sees where it lists a location."""
        a = self.account(name)
        at = check_location(location)
        answer, seen = list_as(self.prepared, a, at, self.now, self.endpoint(endpoint))
        served = self.prepared.namespace(a).resolve(at).served
        shows: Any = None if served is None else served.listing
        return msg.ListingAnswer(
            shows=shows,
            revision=self.revision,
            account=a.name,
            location=at,
            allowed=answer.allowed,
            text=answer.text,
            notes=[f"{of_disks(self.left_out)} was left out"] if self.left_out else [],
            folders=[
                msg.SeenFolder(
                    name=s.name, location=s.location, kind=s.kind, place=s.place and str(s.place)
                )
                for s in seen
            ],
        )

    # --- questions -------------------------------------------------------------------------------

    def decide(self, data: Any) -> dict[str, Any]:
        """The answer to one question, as plain data. Raises :class:`BadInput`."""
        question, wanted = read_question(data)
        if self.known is not None and question.endpoint is not None:
            question = self.known(question, question.at or self.now)
        try:
            if wanted:
                explained = explain(self.prepared, question, self.now)
                return {
                    **_as_answer(explained.verdict),
                    "explanation": explanation_message(explained).model_dump(),
                }
            return _as_answer(verdict(self.prepared, question, self.now))
        except UnknownName as unknown:
            model = self.prepared.model
            names = [
                x.name for x in (model.endpoints if unknown.kind == "endpoint" else model.accounts)
            ]
            near = nearest(unknown.name, names)
            raise BadInput(
                unknown.key, str(unknown), f"the name of an {unknown.kind}", near
            ) from None

    # --- who, map, compare -----------------------------------------------------------------------

    def who(
        self,
        right: str,
        at: str,
        endpoint: str | None = None,
        but_for: str | None = None,
        *,
        offset: int = 0,
        limit: int | None = None,
    ) -> msg.WhoAnswer:
        """Everybody who has a right at a virtual location or a store folder."""
        check_right(right)
        target, way_in = self.target(at), self.endpoint(endpoint)
        stop = None if limit is None else offset + limit
        lines: list[msg.HolderMessage] = []
        nearly: list[msg.AlmostMessage] = []
        if but_for is None:
            total, found = who_has(
                self.prepared, right, target, way_in, offset, stop=stop, disk=True
            )
            lines = [
                msg.HolderMessage(
                    account=h.account,
                    state=h.state,
                    location=h.location,
                    virtual_path=h.virtual_path,
                    place=h.place and str(h.place),
                    decided_at=h.decided_at and str(h.decided_at),
                    decided_by=h.decided_by and str(h.decided_by),
                    chain=[str(s) for s in h.chain],
                )
                for h in found
            ]
        else:
            if but_for not in GATES[2:6]:
                raise BadInput(
                    "but_for", f"{but_for!r} is no gate for this", " or ".join(GATES[2:6])
                )
            missing = almost(self.prepared, right, target, but_for, way_in, disk=True)
            total = len(missing)
            nearly = [
                msg.AlmostMessage(
                    account=x.account, location=x.location, obstacles=obstacle_messages(x.obstacles)
                )
                for x in missing[offset:stop]
            ]
        return msg.WhoAnswer(
            revision=self.revision,
            right=right,
            at=str(target),
            endpoint=way_in.name if way_in else None,
            but_for=but_for,
            total=total,
            holders=lines,
            almost=nearly,
            notes=[*self.area_notes(), *self.disk_notes(stores=self._stores_at(target))],
        )

    def _stores_at(self, target: str | Place) -> set[str]:
        """The stores that somebody's location, or a folder, is in."""
        if isinstance(target, Place):
            return {target.store}
        by_path = access_of_all(self.prepared).division.by_path
        return {s.place.store for at in ancestors(target) for s in by_path.get(at, ())}

    def promises(self) -> msg.PromiseList:
        """The promises, and who breaks each."""
        broken = {b.promise.name: b for b in broken_promises(self.prepared, self.now.date())}
        return msg.PromiseList(
            revision=self.revision,
            promises=[
                msg.PromiseLine(
                    name=p.name,
                    says=str(p.says),
                    kept=p.kept,
                    note=p.note,
                    broken=p.name in broken,
                    accounts=broken[p.name].accounts if p.name in broken else 0,
                    breaches=(
                        [msg.BreachMessage(**b._asdict()) for b in broken[p.name].breaches]
                        if p.name in broken
                        else []
                    ),
                )
                for p in self.prepared.model.promises
            ],
        )

    def trials(self) -> msg.TrialList:
        """The trials that are kept, each done."""
        lines = []
        for trial in self.full.model.trials:
            came = try_on(self.full, trial, self.now, self.credentials)
            steps = [
                msg.StepMessage(
                    says=x.step.says,
                    expected=x.step.expects,
                    allowed=x.answer.allowed,
                    gate=x.answer.gate,
                    text=x.answer.text,
                    as_expected=x.as_expected,
                )
                for x in came
            ]
            all_so = all(x.as_expected for x in came)
            lines.append(
                msg.TrialLine(
                    name=trial.name, item=TRIAL.data(trial), steps=steps, as_expected=all_so
                )
            )
        return msg.TrialList(revision=self.revision, trials=lines)

    def compare(
        self,
        one: str,
        other: str,
        under: str = "/",
        endpoint: str | None = None,
        *,
        offset: int = 0,
        limit: int | None = None,
        other_model: Prepared | None = None,
        folded: bool = False,
    ) -> msg.CompareAnswer:
        """Where two accounts differ; with `other_model`, the second is taken from that.

        `folded` as in :meth:`access`.
        """
        if other_model is not None and self.left_out:
            other_model = other_model.without_disks()
        there = (
            AccessAnswers(other_model, self.revision, self.now) if other_model is not None else self
        )
        a, b = self.account(one, "one"), there.account(other, "other")
        here_in, there_in = self.endpoint(endpoint), there.endpoint(endpoint)
        found, total = differences(
            (self.prepared, a),
            (there.prepared, b),
            (here_in, there_in),
            check_location(under, "under"),
            disk=True,
            folded=folded,
        )
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.CompareAnswer(
            revision=self.revision,
            one=a.name,
            other=b.name,
            total=total,
            notes=self.disk_notes(a, b),
            differences=[
                msg.DifferenceMessage(
                    location=d.location,
                    right=d.right,
                    one=d.one,
                    other=d.other,
                    why_one=self.why_state(a, d.location, d.right, d.one, endpoint),
                    why_other=there.why_state(b, d.location, d.right, d.other, endpoint),
                    below=d.below,
                )
                for d in some
            ],
        )

    def compare_rows(
        self,
        one: str,
        other: str,
        under: str = "/",
        endpoint: str | None = None,
        folded: bool = False,
    ) -> Iterator[dict[str, Any]]:
        """The differences of :meth:`compare` as plain data, each with its reasons made when it is
        asked for.
        """
        a, b, way_in = (
            self.account(one, "one"),
            self.account(other, "other"),
            self.endpoint(endpoint),
        )
        both = (self.prepared, a), (self.prepared, b)
        found, _ = differences(
            *both, (way_in, way_in), check_location(under, "under"), disk=True, folded=folded
        )
        return (
            {
                "location": d.location,
                "right": d.right,
                "one": d.one,
                "other": d.other,
                "why_one": self.why_state(a, d.location, d.right, d.one, endpoint),
                "why_other": self.why_state(b, d.location, d.right, d.other, endpoint),
                "below": d.below,
            }
            for d in found
        )

    def why_state(
        self,
        account: PreparedAccount,
        location: str,
        right: str,
        state: str | None,
        endpoint: str | None,
    ) -> str:
        """One sentence for why a right has this state at a location."""
        owner = account.name if state == "own" else None
        path = example_path(location, right)
        explained = explain(
            self.prepared,
            Question(account.name, right, path, owner=owner, endpoint=endpoint),
            self.now,
        )
        in_question = [
            r for r in explained.obstacles if r.gate not in ("door", "sign-in", "limits")
        ]
        if in_question:
            return in_question[0].text
        return explained.checks[0].judgement.text if explained.checks else explained.verdict.text

    def map(self, wanted: MapWindow) -> msg.MapAnswer:
        """A window of the map."""
        names = wanted.choose_accounts(self.prepared)
        way_in = self.endpoint(wanted.endpoint)
        locations = wanted.choose_locations(self.prepared)
        rows = names[wanted.account_offset :][: wanted.account_limit]
        columns = locations[wanted.location_offset :][: wanted.location_limit]
        return msg.MapAnswer(
            revision=self.revision,
            right=wanted.right,
            endpoint=way_in.name if way_in else None,
            total_accounts=len(names),
            total_locations=len(locations),
            notes=[*self.area_notes(), *self.disk_notes()],
            accounts=[self.prepared.people.accounts[i].name for i in rows],
            locations=columns,
            cells=map_cells(self.prepared, rows, columns, wanted.right, way_in, wanted.store),
        )


def _as_answer(found: Verdict) -> dict[str, Any]:
    """A verdict as plain data; of a refused sign-in also what the client is told, which gives no
    reason away.
    """
    data = found.as_data()
    return {**data, "told_to_client": TOLD_TO_CLIENTS} if found.gate == "sign-in" else data


def example_path(location: str, right: str) -> str:
    """What a question about a right at a location acts on: something in it, or the
    folder itself.
    """
    if right in FILE_RIGHTS or right == "upload":
        return child(location, "any-file")
    return child(location, "new-folder") if right == "make-folder" else location
