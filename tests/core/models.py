"""Random models, small and dense in every rule, from a seed."""

from dataclasses import replace
from datetime import UTC, date, datetime
from random import Random

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.soundness import flaws
from drawknife.core.prepared.question import Question
from drawknife.core.words.actions import ACTIONS
from drawknife.core.words.names import Place
from drawknife.core.words.rights import ALL, BIT, BUNDLES

ACCOUNTS = ("ada", "bo", "Cy", "anonymous")
UNITS = ("fleet", "fleet/in", "shore")
GROUPS = ("g1", "g2", "g3", "g4")
SEGMENTS = ("a", "b", "ada")


def _path(rng, deepest=3):
    return "/" + "/".join(rng.choice(SEGMENTS) for _ in range(rng.randint(0, deepest)))


def _subject(rng, owner=False):
    return rng.choice(
        [m.Subject("account", rng.choice(ACCOUNTS)), m.Subject("group", rng.choice(GROUPS))] * 3
        + [
            m.Subject("unit", rng.choice(UNITS)),
            m.Subject("anyone"),
            m.Subject("signed-in"),
            m.Subject("anonymous"),
        ]
        + [m.Subject("owner")] * (3 if owner else 0)
    )


def _rights(rng):
    return rng.choice(
        [ALL, ALL, *BUNDLES.values(), *BIT.values(), rng.randint(1, ALL), BIT["enter"]]
    )


def _entry(rng, reach=True):
    effect = rng.choice(["allow"] * 5 + ["deny"] * 2 + ["forbid"])
    where = rng.choice(["tree", "tree", "tree", "here", "below", "children"]) if reach else "tree"
    return m.Entry(effect, _subject(rng, owner=reach), _rights(rng), where, _until(rng), _note(rng))


def _until(rng):
    return rng.choice([None] * 8 + [date(2026, 11, day) for day in (20, 22, 23, 24)])


def _note(rng):
    return rng.choice([None] * 5 + ["for the survey", 'asked for by Bo: see "14"'])


def _store(rng, name):
    paths = dict.fromkeys(_path(rng) for _ in range(rng.randint(0, 7)))
    folders = [
        m.Folder(
            path,
            rng.choice([None, None, *ACCOUNTS]),
            rng.random() < 0.2,
            tuple(_entry(rng) for _ in range(rng.choice([0, 1, 1, 2, 3]))),
            _note(rng),
        )
        for path in paths
    ]
    if rng.random() < 0.5 and "/" not in paths:
        folders.append(m.Folder("/", None, False, (m.Entry("allow", m.Subject("anyone"), ALL),)))
    capacity = rng.choice([None, None, None, 100, 1000])
    return m.Store(name, None, rng.choice(["open", "closed", "closed"]), capacity, tuple(folders))


def _virtual_path(rng):
    ways = [f"{s}:{_path(rng, 2)}" for s in ("s", "t", "s")] + [
        "s:/{account}",
        "s:/a/{unit}",
        "t:/{unit-path}",
        "{home}",
        "s:/",
        "s:/a",
    ]
    grants = tuple(
        m.Grant(
            _subject(rng), _rights(rng) | (1 if rng.random() < 0.8 else 0), _until(rng), _note(rng)
        )
        for _ in range(rng.randint(1, 3))
    )
    return m.VirtualPath(
        _path(rng, 3), rng.choice(ways), rng.choice(["reachable", "all"]), grants, _note(rng)
    )


def _endpoint(rng, name):
    protocol = rng.choice(m.PROTOCOLS)
    entries = tuple(_entry(rng, reach=False) for _ in range(rng.randint(0, 3)))
    low = rng.randint(21, 26)
    return m.Endpoint(
        name,
        protocol,
        rng.choice([21, 22, 25]),
        rng.choice(["0.0.0.0", "192.0.2.1", "192.0.2.2", "0.0.0.0"]),
        None if protocol == "sftp" else rng.choice([None, (low, low + 1), (40000, 40010)]),
        rng.choice(m.TLS_POLICIES) if protocol == "ftp" else None,
        rng.choice([(), ("a.example",), ("b.example",)]),
        rng.random() < 0.9,
        (m.Entry("allow", m.Subject("anyone"), ALL), *entries) if rng.random() < 0.6 else entries,
        tuple(_subject(rng) for _ in range(rng.choice([0, 0, 0, 1]))),
        rng.choice([None, None, tuple(_subject(rng) for _ in range(rng.choice([0, 1, 2, 2])))]),
    )


OUTSIDE = ("198.51.100.5", "192.0.2.1")


def _networks(rng):
    """Openings and forwardings that nearly fit the endpoints, so that each way of not fitting turns
    up.
    """
    if rng.random() < 0.5:
        return {}
    nets = ["0.0.0.0/0", "203.0.113.0/24", "198.51.100.0/30", "203.0.113.0/25"]

    def ports():
        low = rng.choice([21, 22, 23, 25, 1000, 40000])
        return (low, 65534 if low == 1000 else low + rng.choice([0, 0, 1, 6, 12]))

    openings = tuple(
        m.Opening(rng.choice(OUTSIDE), ports(), tuple(sorted(rng.sample(nets, rng.randint(1, 2)))))
        for _ in range(rng.randint(0, 5))
    )
    forwardings = []
    for _ in range(rng.choice([0, 0, 1, 2, 3])):
        low, high = ports()
        shift = rng.choice([0, 0, 0, 1])
        forwardings.append(
            m.Forwarding(
                rng.choice(OUTSIDE),
                (low, high),
                rng.choice(["192.0.2.1", "192.0.2.2"]),
                (low + shift, high + shift),
            )
        )
    inside = tuple(rng.sample(["192.0.2.0/25", "198.51.100.0/24"], rng.choice([0, 1, 1])))
    return {"openings": openings, "forwardings": tuple(forwardings), "inside": inside}


def _setting(rng, subject):
    values = {}
    if rng.random() < 0.5:
        values["methods"] = tuple(sorted(rng.sample(m.METHODS, rng.randint(1, 3))))
    if rng.random() < 0.3:
        values["require_tls"] = rng.random() < 0.5
    if rng.random() < 0.6:
        networks = ["192.0.2.0/24", "192.0.2.0/28", "192.0.2.7/32", "198.51.100.0/24", "0.0.0.0/0"]
        values["addresses"] = tuple(
            f"{rng.choice(['allow', 'deny'])} {rng.choice(networks)}"
            for _ in range(rng.randint(1, 3))
        )
    if rng.random() < 0.25:
        lines = [
            "mon-fri 06:00-12:00",
            "mon 12:00-13:00",
            "sun 22:00-12:01",
            "sat-tue 00:00-24:00",
            "wed 01:00-02:00",
        ]
        values["hours"] = tuple(sorted(rng.sample(lines, rng.randint(1, 2))))
    if rng.random() < 0.3:
        values["sessions"] = rng.choice([1, 2, "unlimited"])
    for name, chance in (("quota_bytes", 0.2), ("quota_files", 0.1), ("upload_limit", 0.1)):
        if rng.random() < chance:
            values[name] = rng.choice([0, 1, 10, 100, "unlimited"])
    if rng.random() < 0.15:
        values["uploads_owner"] = rng.choice(ACCOUNTS)
    if rng.random() < 0.2:
        values["landing"] = rng.choice(["/a", "/b"])
    return m.Setting(subject, tuple(sorted(values.items())), _note(rng))


def _quota(rng, name):
    shared = tuple(_subject(rng) for _ in range(rng.randint(0, 2)))
    folder = rng.choice([None, Place(rng.choice("st"), _path(rng))])
    hard, soft = rng.choice([None, 50, 100, 200]), rng.choice([None, None, 20, 50])
    if hard is not None and soft is not None:
        soft = min(hard, soft)
    over = rng.choice(
        [None, datetime(2026, 11, 20, tzinfo=UTC), datetime(2026, 11, 29, tzinfo=UTC)]
    )
    return m.Quota(
        name,
        () if folder else shared,
        folder,
        hard,
        soft,
        rng.choice([None, 3, 6]),
        rng.choice([None, None, 2]),
        rng.choice([None, 0, 86400, 10 * 86400]),
        over,
        over,
    )


def _usage(rng):
    rows = dict.fromkeys(
        (_path(rng, 2), rng.choice([None, *ACCOUNTS])) for _ in range(rng.randint(0, 4))
    )
    return tuple(
        m.Usage(Place(rng.choice("st"), p), who, rng.choice([0, 5, 30]), rng.randint(0, 3))
        for p, who in rows
    )


def random_model(seed):
    rng = Random(seed)
    accounts = tuple(
        m.Account(
            name,
            "anonymous" if name == "anonymous" else rng.choice(["person", "service"]),
            unit=rng.choice([None, *UNITS]),
            home=rng.choice([None, Place("s", _path(rng)), Place("t", _path(rng))]),
            enabled=rng.random() < 0.9,
            expires=rng.choice([None, None, date(2026, 11, 22), date(2026, 11, 23)]),
            methods=(
                ()
                if name == "anonymous"
                else tuple(sorted(rng.sample(m.METHODS, rng.randint(1, 3))))
            ),
            note=_note(rng),
        )
        for name in ACCOUNTS
    )
    groups = []
    for i, name in enumerate(GROUPS):
        pool = [m.Subject("account", a) for a in ACCOUNTS] + [m.Subject("unit", u) for u in UNITS]
        pool += [m.Subject("group", g) for g in GROUPS[:i]] * 2
        members = rng.sample(pool, rng.randint(0, 3))
        groups.append(
            m.Group(
                name, tuple(m.Member(s, _until(rng), _note(rng)) for s in members), note=_note(rng)
            )
        )
    subjects = dict.fromkeys(_subject(rng) for _ in range(3))
    model = m.Model(
        UNITS,
        accounts,
        tuple(groups),
        (_store(rng, "s"), _store(rng, "t")),
        tuple(_virtual_path(rng) for _ in range(rng.randint(1, 7))),
        tuple(_endpoint(rng, name) for name in ("east", "north", "west")),
        tuple(_setting(rng, s) for s in subjects),
        quotas=tuple(_quota(rng, f"q{i}") for i in range(rng.choice([0, 0, 1, 2]))),
        usage=_usage(rng),
        lockouts=(m.Lockout("account", 3, 60, 60),) if rng.random() < 0.3 else (),
        **_networks(rng),
    )
    if seed % 5 == 3:
        model = _of_both_families(
            Random(f"families {seed}"),
            _as_a_directory_leaves_it(Random(f"directory {seed}"), model),
        )
    assert not flaws(model)
    return sound(model)


#: What a directory once had; lines still name it.
GONE = (m.Subject("group", "g9"), m.Subject("account", "dee"), m.Subject("unit", "fleet/lost"))


def _as_a_directory_leaves_it(rng, model):
    """Groups in loops, and everywhere lines of what is there no more; units at more depths."""

    def strewn(lines, line):
        return (*lines, *(line(s) for s in GONE if rng.random() < 0.2))

    groups = [replace(g, source="bureau") for g in model.groups]
    for _ in range(rng.randint(1, 3)):
        i, inner = rng.randrange(len(groups)), m.Subject("group", rng.choice(GROUPS))
        if inner.name != groups[i].name:
            groups[i] = replace(groups[i], members=(*groups[i].members, m.Member(inner)))
    return replace(
        model,
        gone=GONE,
        units=(*model.units, "fleet/in/deep/er"),
        accounts=tuple(
            replace(a, unit=rng.choice([a.unit, a.unit, "fleet/in/deep", "fleet/in/deep/er"]))
            for a in model.accounts
        ),
        groups=tuple(replace(g, members=strewn(g.members, m.Member)) for g in groups),
        stores=tuple(
            replace(
                s,
                folders=tuple(
                    replace(
                        f,
                        entries=strewn(
                            f.entries,
                            lambda x: m.Entry(
                                rng.choice(["allow", "deny", "forbid"]), x, _rights(rng)
                            ),
                        ),
                    )
                    for f in s.folders
                ),
            )
            for s in model.stores
        ),
        virtual_paths=tuple(
            replace(v, grants=strewn(v.grants, lambda x: m.Grant(x, _rights(rng))))
            for v in model.virtual_paths
        ),
        endpoints=tuple(
            replace(
                e,
                entries=strewn(e.entries, lambda x: m.Entry("allow", x, ALL)),
                never=strewn(e.never, lambda x: x),
                only=(
                    None if e.only is None else rng.choice([strewn(e.only, lambda x: x), GONE[:1]])
                ),
            )
            for e in model.endpoints
        ),
        quotas=tuple(
            replace(q, shared_by=strewn(q.shared_by, lambda x: x)) if q.folder is None else q
            for q in model.quotas
        ),
    )


def _of_both_families(rng, model):
    """Endpoints, and what leads to them, with addresses of IPv6 among those of IPv4."""
    inner, outer = ["2001:db8::1", "2001:db8::2", "::", "::1", "127.0.0.1"], "2001:db8:5::5"

    def opened(o):
        networks = (rng.choice(["::/0", "2001:db8::/32", "2001:db8::8/125"]),)
        return (
            o._replace(address=rng.choice([outer, inner[0]]), networks=networks)
            if rng.random() < 0.5
            else o
        )

    def forwarded(f):
        to = rng.choice(inner[:2])
        return (
            f._replace(address=rng.choice([outer, inner[0]]), to_address=to)
            if rng.random() < 0.5
            else f
        )

    return replace(
        model,
        endpoints=tuple(
            replace(e, address=rng.choice([e.address, *inner])) for e in model.endpoints
        ),
        openings=tuple(map(opened, model.openings)),
        forwardings=tuple(map(forwarded, model.forwardings)),
        inside=(
            (*model.inside, "2001:db8::7/128")
            if model.inside and rng.random() < 0.5
            else model.inside
        ),
    )


def random_questions(seed, model, count):
    """Questions at and around the places that the model speaks of."""
    rng = Random(seed)
    paths = [v.path for v in model.virtual_paths]

    def location():
        at = rng.choice([*paths, *paths, "/"])
        for _ in range(rng.choice([0, 1, 1, 1, 2, 3])):
            at = at.rstrip("/") + "/" + rng.choice([*SEGMENTS, "x"])
        return at

    for _ in range(count):
        action = rng.choice([*ACTIONS, "rename", "rename"])
        path = location()
        endpoint = (
            rng.choice([None, None, "east", "NORTH", "west"]) if action != "sign-in" else "east"
        )
        if action == "rename":
            to = rng.choice([location(), path.rsplit("/", 1)[0] + "/y", location()])
        yield Question(
            rng.choice(ACCOUNTS),
            action,
            path,
            to if action == "rename" else None,
            rng.choice(["file", "folder"]) if action in ("rename", "set-attributes") else "file",
            action == "rename" and rng.random() < 0.3,
            rng.choice([None, *ACCOUNTS]),
            endpoint,
            rng.choice(
                [
                    None,
                    "192.0.2.7",
                    "192.0.2.200",
                    "198.51.100.1",
                    "203.0.113.9",
                    "::ffff:203.0.113.9",
                    "2001:db8::9",
                    "::1",
                ]
            ),
            rng.choice([None, True, False]),
            rng.choice([None, *m.METHODS]),
            at=rng.choice(
                [
                    None,
                    None,
                    datetime(2026, 11, 22, 23, 30, tzinfo=UTC),
                    datetime(2026, 11, 25, 1, 30, tzinfo=UTC),
                ]
            ),
            sessions=rng.choice([None, None, 0, 1, 5]),
            size=rng.choice([None, None, 0, 7, 60, 150]),
            replaced_size=rng.choice([None, None, 10]),
            files=rng.choice([None, 2]),
            credentials=rng.choice(
                [None, None, frozenset(), frozenset({"password"}), frozenset({"key", "directory"})]
            ),
        )
