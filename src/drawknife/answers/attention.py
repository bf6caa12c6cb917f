"""What wants a decision now, and would not tomorrow: ends that come near, limits that fill,
credentials that lack.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from datetime import datetime

from drawknife import messages as msg
from drawknife.core.everybody.described_drift import described_drift
from drawknife.core.everybody.drift import DriftFound as Drifted
from drawknife.core.everybody.drift import drift
from drawknife.core.everybody.findings import Finding
from drawknife.core.everybody.promises import broken_promises
from drawknife.core.follows.disk_changes import of_disks
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.follows.trials_turned import trial_findings
from drawknife.core.limits.usage import every_limit, promised
from drawknife.core.model.ending import ending
from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import Endpoint
from drawknife.core.model.kinds import GROUP
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.sizes import number_of, several, show_size

from .limits import limit_fields, sessions_allowed
from .previews import finding_messages

#: Days before an end from which it wants attention, and how full a limit may be.
SOON, NEARLY = 30, 0.9
#: Days before the end of a line.
WEEK = 7
#: How many accounts a finding names before it only counts the rest.
#: More accounts times folders than these are not held against a disk for a finding.
MOST_COMPARED = 20_000
NAMED = 5


def attention(
    prepared: Prepared,
    now: datetime,
    certificate_of: Callable[[Endpoint], msg.CertificateAnswer | None],
    credentials: Credentials,
) -> tuple[list[msg.FindingMessage], list[str]]:
    """What wants a decision as of a moment, and what could not be looked at.

    `certificate_of` gives None for a certificate of which nothing is known; `credentials` None:
    they are not known.
    """
    certificates = {
        e.name: certificate_of(e)
        for e in prepared.model.endpoints
        if e.enabled and e.certificate is not None
    }
    found = [
        Finding(kind, about, text)
        for group in (
            _promises(prepared, now),
            trial_findings(prepared, now, credentials),
            _disks(prepared, now),
            _accounts(prepared, now),
            _lines(prepared, now),
            _without_credential(prepared, credentials),
            _endpoints(prepared, certificates),
            _limits(prepared, now),
        )
        for kind, about, text in group
    ]
    unknown = ["passwords and keys"] if credentials is None and prepared.model.accounts else []
    if large := [name for name in prepared.disks if _too_many(prepared, name)]:
        unknown.append(f"{of_disks(large)}: see `drawknife disk compare`")
    if unseen := [name for name, seen in certificates.items() if seen is None]:
        unknown.append(f"the certificate{'s' * (len(unseen) > 1)} of {several(unseen, NAMED)}")
    return finding_messages(found), unknown


DriftFound = Iterator[tuple[str, str, str]]


def _days(days: int) -> str:
    return "today" if days == 0 else f"in {days} day{'' if days == 1 else 's'}"


def _accounts(prepared: Prepared, now: datetime) -> DriftFound:
    for a in prepared.model.accounts:
        if a.expires is None or not a.enabled:
            continue
        days = (a.expires - now.date()).days
        if 0 <= days < SOON:
            text = (
                f"{a.name} expires with {a.expires}, {_days(days)}; give it a later day, or let"
                " it go"
            )
            yield "account-expires", a.name, text
        elif days < 0:
            text = (
                f"{a.name} expired with {a.expires}, and is still switched on; give it a later day,"
                " or switch it off"
            )
            yield "account-expired", a.name, text


def _promises(prepared: Prepared, now: datetime) -> DriftFound:
    for broken in broken_promises(prepared, now.date()):
        yield "promise-broken", broken.promise.name, broken.text()


def _disks(prepared: Prepared, now: datetime) -> DriftFound:
    """Where a disk refuses what the server lets; of so many accounts and folders only, which is
    said otherwise.
    """
    today = prepared.on(now.date())
    described = {r.store: r for r in today.model.descriptor_readings}
    for store in {**today.disks, **described}:
        if _too_many(today, store):
            continue
        found = today.derived.get(f"drift:{store}")
        if not isinstance(found, Drifted):
            found = (
                drift(today, store)
                if store in today.disks
                else described_drift(today, described[store])
            )
            today.derived[f"drift:{store}"] = found
        refused = [row for row in found.rows if row.refused]
        if refused:
            first = refused[0]
            who = dict.fromkeys(row.account for row in refused)
            where = number_of(sum(1 + row.below for row in refused), "place")
            yield (
                "disk-refuses",
                store,
                (
                    f"the disk of {store} refuses what the server lets {several(who, NAMED)}, at"
                    f" {where}: {first.account} may not {first.refused[0]} at {first.location}:"
                    f" {first.reason}"
                ),
            )


def _too_many(prepared: Prepared, store: str) -> bool:
    model, folders = prepared.model, len(prepared.stores[store].store.folders)
    folders += sum(len(r.folders) + len(r.files) for r in model.disk_readings if r.store == store)
    folders += sum(len(r.folders) for r in model.descriptor_readings if r.store == store)
    return len(model.accounts) * folders > MOST_COMPARED


def _lines(prepared: Prepared, now: datetime) -> DriftFound:
    """Lines that have ended, and those that end within a week."""
    for kind, name, line in ending(prepared.full.model):
        if line.until is None:
            continue
        days = (line.until - now.date()).days
        said = f"{line.says()} in group {name}" if kind is GROUP else f"`{line.says()}` on {name}"
        name = f"group:{name}" if kind is GROUP else name
        if days < 0:
            yield (
                "line-ended",
                name,
                (
                    f"{said} ended with {line.until}, and counts no more; take it away, or give it"
                    " a later day"
                ),
            )
        elif days <= WEEK:
            yield (
                "line-ends",
                name,
                f"{said} ends with {line.until}, {_days(days)}; give it a later day, or let it go",
            )


def _without_credential(prepared: Prepared, credentials: Credentials) -> DriftFound:
    """Accounts that are on and have nothing to sign in with, told together."""
    if credentials is None:
        return
    lacking = [
        a.name
        for a in prepared.model.accounts
        if a.enabled
        and a.kind != "anonymous"
        and not credentials.get(a.name, frozenset()) & set(a.methods)
    ]
    if lacking:
        have = "has" if len(lacking) == 1 else "have"
        text = (
            f"{several(lacking, NAMED)} {have} no credential, and so cannot sign in; set a password"
            " or attach a key"
        )
        yield "no-credential", lacking[0], text


def _endpoints(
    prepared: Prepared, certificates: Mapping[str, msg.CertificateAnswer | None]
) -> DriftFound:
    for e in prepared.model.endpoints:
        if not e.enabled:
            continue
        if tls_policy(e) == "required" and e.certificate is None:
            yield (
                "no-certificate",
                e.name,
                f"{e.name} requires TLS, and names no certificate; give it one",
            )
        c = certificates.get(e.name)
        for line in [c.problem] if c and c.problem else c.warnings if c else []:
            yield "certificate", e.name, f"the certificate of {e.name}: {line}"
        if e.passive_ports is not None:
            ports = e.passive_ports[1] - e.passive_ports[0] + 1
            allowed = sessions_allowed(prepared, e)
            if allowed is not None and allowed > ports:
                text = (
                    f"{e.name} has {ports} passive ports, and its accounts may have {allowed}"
                    " sessions at once; give it more ports"
                )
                yield "passive-range-small", e.name, text


def _limits(prepared: Prepared, now: datetime) -> DriftFound:
    for f in every_limit(prepared):
        x = msg.FilledLimit(**limit_fields(f.limit, now), accounts=[], folders=[])
        share = x.fullness
        if x.grace_ends is not None:
            ends = "ended" if x.grace_ends <= now else "ends"
            text = (
                f"the {x.called} is above its soft limit; its grace period {ends}"
                f" {x.grace_ends:%Y-%m-%d %H:%M} UTC"
            )
            yield "limit-soft", x.name, text
        elif share >= NEARLY:
            yield (
                "limit-nearly-full",
                x.name,
                f"the {x.called} is {share:.0%} full"
                + ("; nothing more fits" if share >= 1 else ""),
            )
    for p in promised(prepared):
        if p.given > p.capacity:
            where = f"store {p.store}" if p.store else "the stores together"
            text = (
                f"{show_size(p.given)} are given away in {where}, which hold"
                f" {show_size(p.capacity)}"
            )
            yield "overcommitted", p.store or "all", text
