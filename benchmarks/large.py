"""A large model from a seed: a cooperative a thousand times the size of the demo's.

10,000 accounts in 200 units, 2,000 nested groups, 100,000 folders of which 20,000 carry entries, 50
virtual paths, some with placeholders; `size` multiplies accounts, `places` folders.
"""

from __future__ import annotations

import random

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.words.names import Place, tree_key
from drawknife.core.words.rights import BUNDLES

ACCOUNTS, GROUPS, FOLDERS, CARRYING = 10_000, 2_000, 100_000, 20_000


def large_model(seed: int = 7, size: float = 1, places: float = 1) -> m.Model:
    """The model, sound and in canonical form."""
    rng = random.Random(seed)
    accounts_wanted, folders_wanted = int(ACCOUNTS * size), int(FOLDERS * places)
    units = [f"fleet{i // 20}/boat{i % 20}" for i in range(200)]
    accounts = tuple(
        m.Account(
            f"a{i:06}", unit=rng.choice(units), home=Place("homes", f"/h{i % 1000:03}/a{i:06}")
        )
        for i in range(accounts_wanted)
    )
    groups = []
    for i in range(GROUPS):
        members = {
            m.Subject("account", accounts[rng.randrange(accounts_wanted)].name)
            for _ in range(rng.randint(3, 25))
        }
        members |= {m.Subject("unit", rng.choice(units)) for _ in range(rng.randint(0, 1))}
        # Groups hold earlier ones, up to some six deep.
        members |= {
            m.Subject("group", f"g{rng.randrange(i):04}")
            for _ in range(rng.randint(0, 2))
            if i > 200
        }
        groups.append(m.Group(f"g{i:04}", tuple(map(m.Member, members))))
    stores = _stores(rng, folders_wanted, accounts)
    return sound(
        m.Model(
            tuple(units),
            accounts,
            tuple(groups),
            stores,
            _virtual_paths(rng),
            _endpoints(),
            _settings(rng),
        )
    )


def _stores(
    rng: random.Random, wanted: int, accounts: tuple[m.Account, ...]
) -> tuple[m.Store, ...]:
    """One deep store with all but a tenth of the folders, and the homes."""
    homes = min(len(accounts), wanted // 10)
    deep = wanted - homes - 2
    paths = ["/"]
    for i in range(deep):
        # New folders hang below older ones, mostly shallow: a depth of six or so.
        above = (
            paths[rng.randrange(max(1, len(paths) // 8))]
            if rng.random() < 0.8
            else rng.choice(paths[-2000:])
        )
        if above.count("/") > 11:
            above = "/"
        paths.append(("" if above == "/" else above) + f"/d{i:06}")
    carrying = CARRYING * wanted // FOLDERS
    chosen = set(rng.sample(paths[1:], carrying - homes // 2)) | {"/"}
    survey = [
        m.Folder(p, None, rng.random() < 0.02, _entries(rng)) if p in chosen else m.Folder(p)
        for p in paths
    ]
    survey[0] = m.Folder(
        "/",
        None,
        False,
        (m.parse_entry("allow signed-in look"), m.parse_entry("forbid anonymous upload")),
    )
    mine = [
        m.Folder(
            a.home.path,
            a.name,
            False,
            (m.parse_entry(f"allow account:{a.name} change"),) if i % 2 else (),
        )
        for i, a in enumerate(accounts[:homes])
        if a.home is not None
    ]
    homes_root = m.Folder(
        "/",
        None,
        False,
        (m.parse_entry("allow signed-in enter here"), m.parse_entry("allow owner add below")),
    )
    return (
        m.Store(
            "survey", None, "closed", None, tuple(sorted(survey, key=lambda f: tree_key(f.path)))
        ),
        m.Store("homes", None, "closed", None, (homes_root, *mine)),
    )


def _subject(rng: random.Random) -> m.Subject:
    if rng.random() < 0.85:
        return m.Subject("group", f"g{rng.randrange(GROUPS):04}")
    return m.Subject(rng.choice(["signed-in", "anyone", "owner"]))


def _entries(rng: random.Random) -> tuple[m.Entry, ...]:
    found = []
    for _ in range(1 if rng.random() < 0.8 else 2):
        effect = rng.choices(["allow", "deny", "forbid"], [80, 17, 3])[0]
        reach = rng.choices(["tree", "here", "below", "children"], [85, 5, 5, 5])[0]
        rights = rng.choice(
            [BUNDLES["read"], BUNDLES["add"], BUNDLES["change"], BUNDLES["look"], BUNDLES["drop"]]
        )
        found.append(m.Entry(effect, _subject(rng), rights, reach))
    return tuple(found)


def _virtual_paths(rng: random.Random) -> tuple[m.VirtualPath, ...]:
    everybody = m.parse_grant("signed-in all")
    found = [
        m.VirtualPath("/survey", "survey:/", "reachable", (everybody,)),
        m.VirtualPath("/home", "{home}", "reachable", (everybody,)),
        m.VirtualPath("/mine", "survey:/d000001/{account}", "reachable", (everybody,)),
        m.VirtualPath("/team", "survey:/d000002/{unit}", "reachable", (everybody,)),
    ]
    for i in range(46):
        grants = tuple(m.Grant(_subject_of_group(rng), BUNDLES["change"]) for _ in range(3))
        found.append(
            m.VirtualPath(f"/v{i:02}", f"survey:/d{rng.randrange(2, 60):06}", "reachable", grants)
        )
    return tuple(found)


def _subject_of_group(rng: random.Random) -> m.Subject:
    return m.Subject("group", f"g{rng.randrange(GROUPS):04}")


def _endpoints() -> tuple[m.Endpoint, ...]:
    return (
        m.Endpoint("harbour", "ftp", 2121, passive_ports=(40000, 40099)),
        m.Endpoint("lab", "sftp", 2222),
    )


def _settings(rng: random.Random) -> tuple[m.Setting, ...]:
    return tuple(
        m.Setting(m.Subject("group", f"g{i:04}"), (("sessions", rng.randint(1, 9)),))
        for i in range(0, 200, 5)
    )
