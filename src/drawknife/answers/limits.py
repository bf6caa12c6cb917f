"""Questions about the way in and the limits: reach, certificates, headroom, usage, what fills a
limit.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from ipaddress import ip_address
from typing import Any

from drawknife import messages as msg
from drawknife.answers import certificates
from drawknife.answers.asked import Asked
from drawknife.answers.handover import FORMATS, sheet
from drawknife.core.decide.sign_in import endpoint_allows
from drawknife.core.decide.way_in import reach
from drawknife.core.limits.quotas import ELSEWHERE, Limit, called, headroom, uploads_owner
from drawknife.core.limits.usage import BY, Filled, Used, every_limit, growth, promised, used_by
from drawknife.core.model.endpoints import read_address
from drawknife.core.model.items import UNLIMITED, Endpoint
from drawknife.core.model.values import moment as read_moment
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.settings import resolve
from drawknife.core.words.checks import check_location
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue
from drawknife.core.words.rights import BIT

#: Seconds in a day.
DAY = 86400
History = dict[tuple[str, str], list[tuple[datetime, int, int]]]


class LimitAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about the way in and the limits."""

    # --- the way in ------------------------------------------------------------------------------

    def reach(self, endpoint: str, client: str) -> msg.ReachAnswer:
        """Whether a client at an address can come to an endpoint, with control and data
        connections.
        """
        way_in = self.endpoint(endpoint)
        assert way_in is not None
        try:
            ip_address(client)
        except ValueError:
            raise BadInput(
                "client", f"{client!r} is no address", "an IPv4 or IPv6 address"
            ) from None
        found = reach(self.prepared.model, way_in, read_address(client))
        return msg.ReachAnswer(
            revision=self.revision,
            endpoint=way_in.name,
            client=client,
            inside=found.inside,
            control=found.control,
            data=found.data,
            way=found.way,
            missing=list(found.missing),
        )

    def certificate(self, endpoint: str) -> msg.CertificateAnswer:
        """What an endpoint's certificate says, and what is wrong with it."""
        way_in = self.endpoint(endpoint)
        assert way_in is not None
        if way_in.certificate is None:
            raise NotFound("certificate of endpoint", way_in.name, [], "endpoint")
        found = self.certificate_of(way_in)
        return found or certificates.not_looked_at(way_in)

    def certificate_of(self, endpoint: Endpoint) -> msg.CertificateAnswer | None:
        """What is known of an endpoint's certificate: what the service saw last, or what its file
        says now.
        """
        if self.seen is not None:
            return self.seen(endpoint)
        return certificates.look(endpoint, self.now)

    def handover(
        self, name: str, endpoint: str | None = None, format: str = "text"
    ) -> msg.HandoverAnswer:
        """A short sheet for the account's user."""
        if format not in FORMATS:
            raise BadInput(
                "format", f"{format!r} is no format of the sheet", "one of " + ", ".join(FORMATS)
            )
        account = self.account(name)
        made = sheet(self.prepared, account, self.now, self.endpoint(endpoint), self.credentials)
        return msg.HandoverAnswer(account=account.name, format=format, text=FORMATS[format](made))

    def handover_document(self, name: str, endpoint: str | None = None) -> bytes:
        """The same sheet as a PDF."""
        from drawknife.documents import paper

        made = sheet(
            self.prepared, self.account(name), self.now, self.endpoint(endpoint), self.credentials
        )
        return paper.sheet(made.title, made.parts)

    # --- limits ----------------------------------------------------------------------------------

    def headroom(self, name: str, location: str, at: str | None = None) -> msg.HeadroomAnswer:
        """How much more an account can put at a virtual location, by every limit that counts it."""
        moment = self.moment(at)
        prepared = self.full.on(moment.date())
        account = prepared.account(self.account(name).name)
        assert account is not None  # lines end, and accounts do not go by that
        found = prepared.namespace(account).resolve(check_location(location))
        if found.served is None or found.place is None:
            why = found.unserved.text if found.unserved else f"{location} is not in its view"
            raise BadInput(
                "location",
                f"{account.name} cannot put anything at {location}: {why}",
                "a location of its own view",
            )
        owner = uploads_owner(prepared, account)
        room = headroom(prepared, owner, found.place, moment)
        largest = resolve(prepared, account, "upload_limit").value
        return msg.HeadroomAnswer(
            revision=self.revision,
            account=account.name,
            owner=owner.name,
            location=found.location,
            place=str(found.place),
            bytes=room.bytes,
            bytes_bound_by=room.bytes_bound_by and called(room.bytes_bound_by),
            files=room.files,
            files_bound_by=room.files_bound_by and called(room.files_bound_by),
            upload_limit=None if largest == UNLIMITED else largest,
            limits=[msg.LimitMessage(**limit_fields(x, moment)) for x in room.limits],
        )

    def moment(self, at: str | None) -> datetime:
        """The time that is asked about; now, if none is given."""
        try:
            found: datetime = read_moment(at) if at else self.now
        except BadValue as bad:
            raise BadInput("at", str(bad), bad.expected) from None
        return found

    def usage(
        self, by: str = "account", offset: int = 0, limit: int | None = None
    ) -> msg.UsageAnswer:
        """Usage by accounts, groups, units, folders or stores, the most first."""
        if by not in BY:
            raise BadInput("by", f"{by!r} is nothing to sum by", "one of " + ", ".join(BY))
        found = used_by(self.prepared, by)
        rows = self.prepared.model.usage
        some = found[offset:] if limit is None else found[offset : offset + limit]
        return msg.UsageAnswer(
            revision=self.revision,
            by=by,
            total_bytes=sum(u.bytes for u in rows),
            total_files=sum(u.files for u in rows),
            total=len(found),
            lines=_lines(some),
        )

    def limits(self, at: str | None = None, history: History | None = None) -> msg.LimitList:
        """Every limit, the fullest first, with who and what fills it, and how it grows."""
        moment = self.moment(at)
        prepared = self.full.on(moment.date())
        found = [
            self._filled(f, moment, (history or {}).get((f.limit.kind, f.limit.name), []))
            for f in every_limit(prepared)
        ]
        found.sort(key=lambda x: -x.fullness)
        return msg.LimitList(
            revision=self.revision,
            limits=found,
            # Of all that is given away, to everybody, a part is no sum.
            promised=(
                []
                if self.whole is not None
                else [
                    msg.PromisedLine(
                        store=p.store, given=p.given, capacity=p.capacity, unlimited_accounts=p.open
                    )
                    for p in promised(prepared)
                ]
            ),
        )

    def _filled(
        self, f: Filled, at: datetime, levels: list[tuple[datetime, int, int]]
    ) -> msg.FilledLimit:
        grows = []
        for what, points, limit in (
            ("bytes", [(at_, b) for at_, b, _ in levels], f.limit.bytes),
            ("files", [(at_, n) for at_, _, n in levels], f.limit.files),
        ):
            found = growth(points, limit)
            if found is not None:
                grows.append(
                    msg.GrowthMessage(
                        what=what,
                        per_day=found.slope * DAY,
                        reached=found.reached,
                        soonest=found.soonest,
                        latest=found.latest,
                        measurements=len(levels),
                    )
                )
        return msg.FilledLimit(
            **{**limit_fields(f.limit, at), "place": f.place},
            accounts=_lines(
                used_by(self.prepared, "account", [u for u in f.rows if u.folder != ELSEWHERE])[:10]
            ),
            folders=_lines(_exact_folders(f)[:10]),
            history=[msg.LevelPoint(at=p[0], bytes=p[1], files=p[2]) for p in levels],
            growth=grows,
        )


def sessions_allowed(prepared: Prepared, e: Endpoint) -> int | None:
    """How many sessions the accounts that an endpoint admits may have at once; None: as many as
    they like.
    """
    key = f"sessions:{e.name}"
    if key not in prepared.derived:
        prepared.derived[key] = _sessions_in_sum(prepared, e)
    found = prepared.derived[key]
    return found if isinstance(found, int) else None


def _sessions_in_sum(prepared: Prepared, e: Endpoint) -> int | None:
    total = 0
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        if not account.account.enabled or not any(
            endpoint_allows(prepared, account, e, bit) for bit in BIT.values()
        ):
            continue
        most = resolve(prepared, account, "sessions").value
        if most == UNLIMITED:
            return None
        total += most
    return total


def _exact_folders(f: Filled) -> list[Used]:
    sums: dict[str, list[int]] = {}
    for u in (u for u in f.rows if u.folder != ELSEWHERE):
        total = sums.setdefault(str(u.folder), [0, 0])
        total[0] += u.bytes
        total[1] += u.files
    return sorted((Used(n, b, c) for n, (b, c) in sums.items()), key=lambda x: (-x.bytes, x.name))


def _lines(used: Sequence[Used]) -> list[msg.UsedLine]:
    return [msg.UsedLine(name=u.name, bytes=u.bytes, files=u.files) for u in used]


def limit_fields(x: Limit, at: datetime) -> dict[str, Any]:
    over = [
        s
        for s, used in ((x.soft_bytes, x.used_bytes), (x.soft_files, x.used_files))
        if s and used > s.limit
    ]
    ends = min((e for s in over if (e := s.ends()) is not None), default=None)
    return {
        "kind": x.kind,
        "name": x.name,
        "called": called(x),
        "hard_bytes": x.bytes,
        "hard_files": x.files,
        "soft_bytes": x.soft_bytes and x.soft_bytes.limit,
        "soft_files": x.soft_files and x.soft_files.limit,
        "used_bytes": x.used_bytes,
        "used_files": x.used_files,
        "room_bytes": x.room_bytes(at),
        "room_files": x.room_files(at),
        "grace_ends": ends,
    }
