"""Explanations in the words of :mod:`messages`."""

from __future__ import annotations

from collections.abc import Iterable

from drawknife import messages as msg
from drawknife.core.decide.explain import Check, Explanation
from drawknife.core.decide.folder_decision import Judgement
from drawknife.core.prepared.namespace import Location
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.question import Refusal
from drawknife.core.words.rights import format_rights


def obstacle_messages(found: Iterable[Refusal]) -> list[msg.Obstacle]:
    return [msg.Obstacle(gate=r.gate, reason=r.reason, text=r.text) for r in found]


def explanation_message(explained: Explanation) -> msg.ExplanationMessage:
    """An explanation in the words of messages."""
    sites = explained.case.sites
    return msg.ExplanationMessage(
        obstacles=obstacle_messages(explained.obstacles),
        locations=(
            [
                _resolved(x, explained.case.account)
                for x in (sites.here, sites.there)
                if x is not None
            ]
            if explained.case.question.action != "sign-in"
            else []
        ),
        gates=[
            msg.GateMessage(
                gate=g.gate,
                asked=g.asked,
                obstacles=obstacle_messages(g.obstacles),
                notes=list(g.notes),
            )
            for g in explained.gates
        ],
        checks=[_check(c) for c in explained.checks],
    )


def _resolved(at: Location, account: PreparedAccount) -> msg.ResolvedMessage:
    standing = account.standing.ranks
    grants = (
        [str(g) for v in at.served.sources for g in v.grants if g.subject in standing]
        if at.served
        else []
    )
    return msg.ResolvedMessage(
        location=at.location,
        place=at.place and str(at.place),
        virtual_path=at.served and at.served.path,
        ceiling=format_rights(at.served.ceiling) if at.served else None,
        grants=grants,
        synthetic=at.synthetic,
    )


def _check(c: Check) -> msg.CheckMessage:
    return msg.CheckMessage(
        passing=[
            msg.PassingMessage(place=str(p.place), allowed=p.allowed, alike=p.alike)
            for p in c.passing
        ],
        judgement=_judgement(c.judgement),
        blocked=[_judgement(j) for j in c.blocked],
    )


def _judgement(j: Judgement) -> msg.JudgementMessage:
    return msg.JudgementMessage(
        right=j.right,
        place=str(j.place),
        own=j.own,
        allowed=j.allowed,
        reason=j.reason,
        text=j.text,
        decided_at=j.decided_at and str(j.decided_at),
        decided_by=j.decided_by and str(j.decided_by),
        levels=[
            msg.LevelMessage(
                place=str(x.place),
                up=x.up,
                sealed=x.sealed,
                recorded=x.recorded,
                owner=x.owner,
                entries=[
                    msg.EntryPartMessage(
                        entry=str(e.entry),
                        fate=e.fate,
                        by=e.by,
                        chain=[str(s) for s in e.chain],
                        note=e.entry.note,
                    )
                    for e in x.entries
                ],
            )
            for x in j.levels
        ],
    )
