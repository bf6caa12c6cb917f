"""Edits one after the other through the database: what is read back is what was made, by every way
of reading.
"""

from random import Random

import pytest

from drawknife.changing import apply
from drawknife.core.model import edits
from drawknife.core.model.soundness import flaws
from drawknife.formats.model_file import read_model, write_model
from drawknife.records.changes import change_model
from drawknife.records.journal import read_journal
from drawknife.records.snapshots import read_snapshot

from ..core.models import ACCOUNTS, GROUPS, UNITS, random_model


def random_change(rng, model, number):
    """One change of some kind; it may be one that the model refuses."""
    store = rng.choice(model.stores).name if model.stores else "s"
    account, group, unit = (
        rng.choice(model.accounts or ACCOUNTS),
        rng.choice(model.groups or GROUPS),
        rng.choice(model.units or UNITS),
    )
    name, of_group, of_unit = (getattr(x, "name", x) for x in (account, group, unit))
    endpoint = rng.choice(model.endpoints).name
    place = f"{store}:/{rng.choice('abc')}/{rng.choice('abc')}"
    return rng.choice(
        [
            {"op": "add", "kind": "account", "item": {"name": f"new{number}", "unit": of_unit}},
            {
                "op": "change",
                "kind": "account",
                "name": name,
                "set": {"display": f"d{number}", "unit": rng.choice([None, of_unit])},
            },
            {"op": "rename", "kind": "account", "name": name, "to": f"renamed{number}"},
            {"op": "remove", "kind": "account", "name": name, "everywhere": True},
            {
                "op": "change",
                "kind": "group",
                "name": of_group,
                "add": {"members": [f"account:{name}", f"unit:{of_unit}"]},
            },
            {"op": "rename", "kind": "group", "name": of_group, "to": f"group{number}"},
            {"op": "remove", "kind": "group", "name": of_group, "everywhere": True},
            {"op": "rename", "kind": "unit", "name": of_unit, "to": f"unit{number}"},
            {"op": "add", "kind": "unit", "name": f"{of_unit}/deep{number}"},
            {
                "op": "change",
                "kind": "folder",
                "name": place,
                "add": {"entries": [f"deny group:{of_group} all below"]},
                "set": {"owner": name},
            },
            {"op": "change", "kind": "folder", "name": place, "set": {"sealed": True}},
            {
                "op": "rename",
                "kind": "folder",
                "name": place,
                "to": f"{rng.choice(model.stores).name}:/moved{number}",
            },
            {"op": "remove", "kind": "folder", "name": place},
            {"op": "rename", "kind": "store", "name": store, "to": f"store{number}"},
            {
                "op": "change",
                "kind": "store",
                "name": store,
                "set": {"capacity": number, "baseline": "open"},
            },
            {
                "op": "add",
                "kind": "virtual-path",
                "item": {
                    "path": f"/v{number}",
                    "leads_to": place,
                    "grants": [f"account:{name} read"],
                },
            },
            {
                "op": "change",
                "kind": "endpoint",
                "name": endpoint,
                "add": {"never": [f"account:{name}"]},
                "set": {"certificate": f"/c{number}"},
            },
            {
                "op": "change",
                "kind": "setting",
                "name": f"group:{of_group}",
                "set": {"sessions": number, "hours": ["mon 01:00-02:00"]},
            },
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": f"q{number}", "folder": place, "soft_bytes": 5, "grace": 60},
            },
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": f"p{number}", "shared_by": [f"group:{of_group}"], "hard_files": 5},
            },
            {
                "op": "change",
                "kind": "network",
                "set": {"inside": [f"10.{number}.0.0/16"], "openings": []},
            },
            {
                "op": "add",
                "kind": "lockout",
                "item": {"of": "address", "failures": 3, "within": 60, "lasts": 60},
            },
        ]
    )


@pytest.mark.parametrize("seed", range(6))
def test_a_row_of_edits_is_read_back_as_it_was_made(database, seed):
    rng = Random(seed)
    first = change_model(database, lambda _, __: random_model(seed), "ada", "load")
    kept = read_snapshot(database)
    assert kept == first
    done = 0
    for number in range(1, 25):
        change = random_change(rng, kept.model, number)
        try:
            after = change_model(
                database,
                lambda model, _, change=change: apply(model, [change]).model,
                "ada",
                "edit",
                None,
                at_hand=kept,
            )
        except (edits.ChangeRefused, edits.NotFound):
            assert read_snapshot(database) == kept
            continue
        done += after.revision > kept.revision
        assert not flaws(after.model) and read_model(write_model(after.model)) == after.model
        # Brought forward from what was there, from an older revision, and read from nothing: the
        # same.
        assert read_snapshot(database, kept) == after and read_snapshot(database, first) == after
        kept = after
    assert read_snapshot(database) == kept and done > 5
    total, lines = read_journal(database, 1)
    assert total == kept.revision == lines[0].revision
