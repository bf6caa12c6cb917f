"""Questions about access: what somebody can do, may it do this, who can, and where two differ."""

from __future__ import annotations

from typing import Any

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.explanations import explanation_message, obstacle_messages
from drawknife.answers.map_window import MapWindow, map_cells
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import UnknownName, verdict
from drawknife.core.decide.sign_in import TOLD_TO_CLIENTS
from drawknife.core.decide.trying import try_on
from drawknife.core.everybody.compare import differences
from drawknife.core.everybody.effective import effective_access
from drawknife.core.everybody.listing import list_as
from drawknife.core.everybody.promises import broken_promises
from drawknife.core.everybody.who import almost, holders
from drawknife.core.model.kinds import TRIAL
from drawknife.core.model.soundness import nearest
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question, Verdict
from drawknife.core.words.actions import GATES
from drawknife.core.words.checks import check_location, check_right
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import child
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS
from drawknife.formats.questions import read_question


class AccessAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about access."""

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
            notes=self.disk_notes(a),
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
            # Who can is asked of the model alone: the disk is beside it.
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
            but_for=but_for, total=total, holders=told, almost=nearly, notes=self.disk_notes(),
        )  # fmt: skip

    def promises(self) -> msg.PromiseList:
        """The promises, and who breaks each."""
        broken = {b.promise.name: b for b in broken_promises(self.prepared, self.now.date())}
        return msg.PromiseList(
            revision=self.revision,
            promises=[
                msg.PromiseLine(
                    name=p.name, says=str(p.says), kept=p.kept, note=p.note, broken=p.name in broken,
                    accounts=broken[p.name].accounts if p.name in broken else 0,
                    breaches=[msg.BreachMessage(**b._asdict()) for b in broken[p.name].breaches] if p.name in broken else [],
                )
                for p in self.prepared.model.promises
            ],
        )  # fmt: skip

    def trials(self) -> msg.TrialList:
        """The trials that are kept, each done."""
        lines = []
        for trial in self.full.model.trials:
            came = try_on(self.full, trial, self.now, self.credentials)
            steps = [
                msg.StepMessage(
                    says=x.step.says, expected=x.step.expects, allowed=x.answer.allowed, gate=x.answer.gate,
                    text=x.answer.text, as_expected=x.as_expected,
                )
                for x in came
            ]  # fmt: skip
            all_so = all(x.as_expected for x in came)
            lines.append(msg.TrialLine(name=trial.name, item=TRIAL.data(trial), steps=steps, as_expected=all_so))
        return msg.TrialList(revision=self.revision, trials=lines)

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
        there = AccessAnswers(other_model, self.revision, self.now) if other_model is not None else self
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
            notes=self.disk_notes(a, b),
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
            total_accounts=len(names), total_locations=len(locations), notes=self.disk_notes(),
            accounts=[self.prepared.people.accounts[i].name for i in rows], locations=columns,
            cells=map_cells(self.prepared, rows, columns, wanted.right, way_in, wanted.store),
        )  # fmt: skip


def _as_told(found: Verdict) -> dict[str, Any]:
    """A verdict as plain data; of a refused sign-in also what the client is told, which gives no reason away."""
    data = found.as_data()
    return {**data, "told_to_client": TOLD_TO_CLIENTS} if found.gate == "sign-in" else data


def example_path(location: str, right: str) -> str:
    """What a question about a right at a location acts on: something in it, or the folder itself."""
    if right in FILE_RIGHTS or right == "upload":
        return child(location, "any-file")
    return child(location, "new-folder") if right == "make-folder" else location
