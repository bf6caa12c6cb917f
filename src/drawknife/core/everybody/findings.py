"""What wants attention though no rule is broken: clashes, paths that lead nowhere,
dangling names.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import NamedTuple, TypeVar

from ..decide.way_in import reach
from ..model.endpoints import clash, read_network
from ..model.items import Model, Subject
from ..model.kinds import SETTINGS
from ..model.removal import lines_naming
from ..model.standing import loops
from ..prepared.prepared import Prepared
from ..prepared.settings import resolve
from ..words.confusable import alike
from ..words.rights import ENTER
from ..words.sizes import several
from .access_map import access_of_all
from .division import bits_in
from .unused import unused

Found = TypeVar("Found")

#: How many accounts a finding names before it only counts the rest.
NAMED = 5


class Finding(NamedTuple):
    """`kind` is a short stable code; `about` what it concerns; `text` one sentence with
    the remedy.
    """

    kind: str
    about: str
    text: str


def findings(prepared: Prepared) -> list[Finding]:
    """Every finding, most pressing kinds first; looked for once, and kept."""
    found = prepared.derived.get("findings")
    if not isinstance(found, list):
        found = prepared.derived["findings"] = _findings(prepared)
    return list(found)


def _findings(prepared: Prepared) -> list[Finding]:
    out: list[Finding] = []
    for name, stopping in sorted(prepared.stopped_by.items()):
        out.append(
            Finding(
                "endpoint-clash",
                name,
                f"endpoint {name} does not start beside {stopping.winner}: {stopping.text}; give"
                " one of them other ports",
            )
        )
    out += _ports_taken(prepared)
    out += _unreached(prepared)
    out += _paths(prepared)
    for vpath in prepared.model.virtual_paths:
        for grant in vpath.grants:
            if not grant.rights & ENTER:
                out.append(
                    Finding(
                        "grant-without-enter",
                        vpath.path,
                        f"the grant `{grant}` on {vpath.path} is of no use alone: it lacks enter",
                    )
                )
    for loop in _kept(
        prepared, "loops", (prepared.model.groups,), lambda: loops(prepared.model.groups)
    ):
        out.append(
            Finding("group-loop", loop[0], "groups hold each other in a loop: " + " > ".join(loop))
        )
    out += _dangling(prepared)
    # Why nobody is led anywhere by a path is said of that path already.
    led_nowhere = {f.about for f in out if f.kind in ("path-unusable", "path-ambiguous")}
    for found in unused(prepared):
        if found.kind != "grant-of-no-use" or found.about not in led_nowhere:
            out.append(Finding(*found))
    out += _alike(prepared)
    out += _undecided(prepared)
    return out


def _ports_taken(prepared: Prepared) -> list[Finding]:
    """Endpoints that are switched off, and could not start beside one that runs."""
    running = [
        e for e in prepared.model.endpoints if e.enabled and e.name not in prepared.stopped_by
    ]
    out = []
    for endpoint in prepared.model.endpoints:
        if endpoint.enabled:
            continue
        switched_on = replace(endpoint, enabled=True)
        found = next(((e, text) for e in running if (text := clash(switched_on, e))), None)
        if found is not None:
            text = (
                f"{endpoint.name} is switched off, and could not start beside {found[0].name}:"
                f" {found[1]}"
            )
            out.append(
                Finding(
                    "endpoint-port-taken",
                    endpoint.name,
                    f"{text}; give it other ports, or remove it",
                )
            )
    return out


def _unreached(prepared: Prepared) -> list[Finding]:
    """Endpoints that clients from outside can sign in at, but whose data connections do not come
    through.
    """
    out = []
    model = prepared.model
    for endpoint in model.endpoints:
        for opening in (
            model.openings if endpoint.enabled and endpoint.name not in prepared.stopped_by else ()
        ):
            network = read_network(opening.networks[0])
            client = network[1 if network.num_addresses > 1 else 0]
            found = reach(model, endpoint, client)
            if found.control and not found.data:
                why = "; ".join(found.missing).replace(
                    str(client), f"clients from {opening.networks[0]}"
                )
                text = (
                    f"clients from {opening.networks[0]} can sign in at {endpoint.name}, but no"
                    f" data comes through: {why}"
                )
                out.append(Finding("data-out-of-reach", endpoint.name, text))
                break
    return out


def _paths(prepared: Prepared) -> list[Finding]:
    out = []
    map_ = access_of_all(prepared)
    for path, members in sorted(map_.division.unserved.items()):
        by_reason: dict[str, list[tuple[str, str]]] = {}
        for bit in bits_in(members):
            account = prepared.people.prepared(map_.accounts[bit])
            closed = prepared.namespace(account).unserved[path]
            by_reason.setdefault(closed.reason, []).append((account.name, closed.text))
        for reason, found in sorted(by_reason.items()):
            names = several((name for name, _ in found), NAMED)
            out.append(
                Finding(f"path-{reason}", path, f"{path} is not served to {names}: {found[0][1]}")
            )
    return out


def _kept(
    prepared: Prepared, what: str, parts: tuple[object, ...], make: Callable[[], list[Found]]
) -> list[Found]:
    """What is found in some parts of the model; kept with the people, whom models share that differ
    in other things.
    """
    known = prepared.people.derived.get(what)
    if known is None or not all(a is b or a == b for a, b in zip(known[0], parts, strict=True)):
        known = prepared.people.derived[what] = (parts, make())
    found: list[Found] = known[1]
    return found


def _alike(prepared: Prepared) -> list[Finding]:
    """Names of one kind that are easily mistaken for each other."""
    m = prepared.model
    parts = (m.accounts, m.groups, m.units, tuple(s.name for s in m.stores), m.endpoints)
    return _kept(prepared, "alike", parts, lambda: _named_alike(m))


def _named_alike(m: Model) -> list[Finding]:
    out = []
    for kind, names in (
        ("account", [a.name for a in m.accounts]),
        ("group", [g.name for g in m.groups]),
        ("unit", m.units),
        ("store", [s.name for s in m.stores]),
        ("endpoint", [e.name for e in m.endpoints]),
    ):
        for found in alike(names):
            text = (
                f"the {kind}s {' and '.join(found)} look alike and are easily mistaken for each"
                " other; rename one"
            )
            out.append(Finding("names-alike", found[0], text))
    return out


class _Nobody:
    """The subjects that do not exist."""

    def __init__(self, prepared: Prepared) -> None:
        self._known = set(prepared.people.subjects)

    def __contains__(self, subject: object) -> bool:
        return isinstance(subject, Subject) and bool(subject.name) and subject not in self._known


def _dangling(prepared: Prepared) -> list[Finding]:
    return [
        Finding(
            "dangling-name",
            reference.name,
            f"{reference.kind} {reference.name} names {subject}, which is there no more: it matches"
            " nobody",
        )
        for subject, reference in lines_naming(prepared.model, _Nobody(prepared))
    ]


def _undecided(prepared: Prepared) -> list[Finding]:
    names = [name for name, field in SETTINGS.items() if field.stricter is None]
    if not any(key in names for s in prepared.model.settings for key, _ in s.values):
        return []
    out = []
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        for name in names:
            came = resolve(prepared, account, name)
            if came.undecided:
                ways = " and ".join(map(str, came.subjects))
                out.append(
                    Finding(
                        "setting-undecided",
                        account.name,
                        f"{name} of {account.name} is set differently for {ways}, which are equally"
                        f" near; {came.subjects[0]} was taken",
                    )
                )
    return out
