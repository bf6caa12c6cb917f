"""Random changes of every kind, as they are written down."""

from random import Random

from .models import ACCOUNTS, GROUPS, UNITS

ENTRIES = (
    "allow group:g1 all",
    "deny group:g2 read",
    "forbid unit:fleet upload,append",
    "allow owner change",
    "allow anyone look children",
    "deny signed-in all below",
    "allow account:ada add here",
    "deny owner download",
    "allow anonymous read",
    "deny account:Cy enter",
    "deny group:g1 all until 2026-11-23",
    "allow anyone all until 2026-11-24",
    {"line": "forbid account:ada download", "until": "2026-11-22", "note": "over"},
    {"line": "allow owner change", "note": "why"},
)
GRANTS = (
    "signed-in all",
    "group:g1 read",
    "account:ada change",
    "anyone look",
    "unit:fleet add",
    "group:g3 download",
    "account:bo all until 2026-11-23",
)
SUBJECTS = ("account:ada", "group:g1", "group:g2", "unit:fleet", "signed-in", "anonymous")
FOLDERS = ("s:/", "s:/a", "s:/a/b", "s:/b", "t:/", "t:/a", "t:/ada", "s:/a/new", "s:/b/b/new")


def _of_account(rng, name):
    return {
        "op": "change",
        "kind": "account",
        "name": name,
        "set": rng.choice(
            [
                {"enabled": False},
                {"enabled": True},
                {"expires": "2026-11-22"},
                {"expires": None},
                {"unit": "shore"},
                {"unit": None},
                {"home": "s:/a/b"},
                {"home": None},
                {"display": "somebody"},
                {"note": "on leave"},
            ]
        ),
    }


def _of_endpoint(rng, name):
    return {
        "op": "change",
        "kind": "endpoint",
        "name": name,
        **rng.choice(
            [
                {"set": {"enabled": False}},
                {"set": {"enabled": True}},
                {"set": {"only": []}},
                {"set": {"only": None}},
                {"add": {"only": [rng.choice(SUBJECTS)]}},
                {"add": {"never": [rng.choice(SUBJECTS)]}},
                {
                    "add": {
                        "entries": [
                            rng.choice(
                                [
                                    "deny group:g1 upload",
                                    "allow signed-in read",
                                    "forbid account:bo all",
                                ]
                            )
                        ]
                    }
                },
                {"set": {"entries": []}},
                {"set": {"port": 21}},
                {"set": {"port": 4022}},
            ]
        ),
    }


def _of_folder(rng):
    name = rng.choice(FOLDERS)
    return rng.choice(
        [
            {
                "op": "change",
                "kind": "folder",
                "name": name,
                "add": {"entries": [rng.choice(ENTRIES)]},
            },
            {"op": "change", "kind": "folder", "name": name, "set": {"sealed": rng.random() < 0.6}},
            {
                "op": "change",
                "kind": "folder",
                "name": name,
                "set": {"owner": rng.choice([None, *ACCOUNTS])},
            },
            {
                "op": "add",
                "kind": "folder",
                "name": name,
                "item": {"sealed": True, "entries": [rng.choice(ENTRIES)]},
            },
            {"op": "remove", "kind": "folder", "name": name},
        ]
    )


def _of_path(rng, model):
    path, leads = (
        rng.choice(["/a", "/b/x", "/", "/a/b"]),
        rng.choice(["s:/a", "t:/", "s:/{account}", "{home}"]),
    )
    ways = [
        {
            "op": "add",
            "kind": "virtual-path",
            "item": {"path": path, "leads_to": leads, "grants": [rng.choice(GRANTS)]},
        }
    ]
    if model.virtual_paths:
        v = rng.choice(model.virtual_paths)
        name = f"{v.path}>{v.leads_to}"
        ways += [
            {"op": "remove", "kind": "virtual-path", "name": name},
            {
                "op": "change",
                "kind": "virtual-path",
                "name": name,
                "add": {"grants": [rng.choice(GRANTS)]},
            },
            {"op": "change", "kind": "virtual-path", "name": name, "set": {"leads_to": leads}},
        ]
    return rng.choice(ways)


def _of_setting(rng):
    return {
        "op": "change",
        "kind": "setting",
        "name": rng.choice(SUBJECTS),
        "set": rng.choice(
            [
                {"quota_bytes": 40},
                {"methods": ["key"]},
                {"hours": ["sun 00:00-24:00"]},
                {"uploads_owner": "bo"},
                {"addresses": ["allow 192.0.2.0/24"]},
                {"sessions": 3},
                {"landing": "/b"},
                {"quota_bytes": None},
            ]
        ),
    }


def _of_quota(rng, model):
    ways = [
        {"op": "add", "kind": "quota", "item": {"name": "qx", "folder": "s:/a", "hard_bytes": 30}},
        {
            "op": "add",
            "kind": "quota",
            "item": {"name": "qy", "shared_by": ["group:g1"], "soft_bytes": 10},
        },
    ]
    if model.quotas:
        name = model.quotas[0].name
        ways += [
            {"op": "change", "kind": "quota", "name": name, "set": {"hard_bytes": 1000}},
            {"op": "remove", "kind": "quota", "name": name},
        ]
    return rng.choice(ways)


def random_change(rng: Random, model):
    """One change, which the model need not allow."""
    ways = [
        lambda: _of_account(rng, rng.choice(ACCOUNTS)),
        lambda: _of_endpoint(rng, rng.choice(["east", "north", "west"])),
        lambda: _of_folder(rng),
        lambda: _of_folder(rng),
        lambda: _of_path(rng, model),
        lambda: _of_setting(rng),
        lambda: _of_quota(rng, model),
        lambda: {
            "op": "change",
            "kind": "group",
            "name": rng.choice(GROUPS),
            rng.choice(["add", "drop"]): {
                "members": [rng.choice([*SUBJECTS[:4], "account:bo until 2026-11-23"])]
            },
        },
        lambda: {
            "op": "change",
            "kind": "store",
            "name": "s",
            "set": {"baseline": rng.choice(["open", "closed"])},
        },
        lambda: {
            "op": "change",
            "kind": "store",
            "name": "t",
            "set": {"capacity": rng.choice([20, None])},
        },
        lambda: {
            "op": "add",
            "kind": "account",
            "item": {"name": "zoe", "unit": rng.choice([None, *UNITS]) or "shore"},
        },
        lambda: {"op": "add", "kind": "group", "item": {"name": "g9", "members": ["account:ada"]}},
        lambda: {
            "op": "add",
            "kind": "endpoint",
            "item": {"name": "brig", "protocol": "sftp", "port": 2222},
        },
        lambda: {"op": "remove", "kind": "endpoint", "name": rng.choice(["east", "north"])},
        lambda: {
            "op": "remove",
            "kind": "account",
            "name": rng.choice(ACCOUNTS),
            "everywhere": True,
        },
        lambda: {"op": "remove", "kind": "group", "name": rng.choice(GROUPS), "everywhere": True},
        lambda: {
            "op": "rename",
            "kind": "account",
            "name": rng.choice(ACCOUNTS[:3]),
            "to": rng.choice(["zoe", "CY", "bo"]),
        },
        lambda: {"op": "rename", "kind": "group", "name": rng.choice(GROUPS), "to": "g0"},
        lambda: {"op": "rename", "kind": "unit", "name": "fleet", "to": "flotilla"},
        lambda: {"op": "rename", "kind": "store", "name": "s", "to": "z"},
        lambda: {"op": "rename", "kind": "endpoint", "name": "east", "to": "quay"},
        lambda: {
            "op": "rename",
            "kind": "folder",
            "name": rng.choice(FOLDERS[1:]),
            "to": rng.choice(["s:/moved", "t:/a/moved", "s:/b/here"]),
        },
        lambda: {"op": "change", "kind": "network", "set": {"inside": ["192.0.2.0/24"]}},
    ]
    if model.gone:
        ways += [
            lambda: {"op": "add", "kind": "unit", "name": rng.choice(["Fleet/LOST", "shore/new"])},
            lambda: {"op": "add", "kind": "account", "item": {"name": "Dee", "unit": "fleet/lost"}},
            lambda: {"op": "remove", "kind": "unit", "name": rng.choice(UNITS), "everywhere": True},
            lambda: {"op": "remove", "kind": "store", "name": rng.choice("st"), "everywhere": True},
            lambda: {"op": "remove", "kind": "setting", "name": rng.choice(SUBJECTS)},
            lambda: {
                "op": "rename",
                "kind": "unit",
                "name": rng.choice(UNITS),
                "to": rng.choice(["shore/fleet", "Fleet/lost"]),
            },
        ]
    return rng.choice(ways)()
