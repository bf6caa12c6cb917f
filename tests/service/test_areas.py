"""An area bounds what its editor can do to others, by every way in."""

import json

import pytest

from drawknife.client import Client
from drawknife.core.words.quantities import read_size
from drawknife.messages import NewCensus

from ..conftest import DEMO, serving
from .people import refused, signed_in

AREA = ["store:survey", "unit:shore/lab"]


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    address = cluster.create_database("areas")
    with serving(address, tmp_path_factory.mktemp("areas"), "--load", DEMO) as service:
        with service.client() as owner:
            owner.add_administrator("pim", "editor", AREA, reads="everything")
        service.pims = signed_in(service, "pim")
        yield service


@pytest.fixture
def owner(own):
    with own.client() as client:
        yield client


@pytest.fixture
def pim(own):
    with Client(own.url, own.pims) as client:
        yield client


TRAPS = {
    "the root of a store": {
        "op": "change",
        "kind": "store",
        "name": "survey",
        "set": {"root": "/etc"},
    },
    "its modes": {
        "op": "change",
        "kind": "store",
        "name": "survey",
        "set": {"creation_mode": "0666 0777"},
    },
    "its capacity": {
        "op": "change",
        "kind": "store",
        "name": "survey",
        "set": {"capacity": "1 GiB"},
    },
    "another's location": {
        "op": "add",
        "kind": "virtual-path",
        "item": {"path": "/home", "leads_to": "survey:/soundings", "grants": ["account:bram all"]},
    },
    "everybody's location": {
        "op": "add",
        "kind": "virtual-path",
        "item": {"path": "/home", "leads_to": "survey:/soundings", "grants": ["signed-in all"]},
    },
    "a user of the system": {
        "op": "change",
        "kind": "setting",
        "name": "account:ines",
        "set": {"acts_as": "root"},
    },
    "whose quota is filled": {
        "op": "change",
        "kind": "setting",
        "name": "account:ines",
        "set": {"uploads_owner": "bram"},
    },
    "what others are led to": {"op": "remove", "kind": "virtual-path", "name": "/soundings"},
}


@pytest.mark.parametrize("trap", TRAPS.values(), ids=TRAPS.keys())
def test_what_concerns_others_is_refused_as_a_change_and_as_a_draft(pim, owner, trap):
    before = owner.health().revision
    assert "your area" in refused(403, lambda: pim.change([trap]))
    assert any("your area" in n for n in pim.preview([trap]).notes)
    pim.add_to_draft("trap", [trap])
    assert "your area" in refused(403, lambda: pim.apply_draft("trap"))
    pim.drop_draft("trap")
    assert owner.health().revision == before


def test_a_way_back_that_concerns_others_is_refused(pim, owner):
    done = owner.change(
        [{"op": "change", "kind": "store", "name": "survey", "set": {"root": "/srv/survey-2"}}]
    )
    try:
        assert "your area" in refused(403, lambda: pim.back(done.revision))
    finally:
        owner.back(done.revision)


@pytest.mark.parametrize("size", [10**15, 0])
def test_a_census_neither_charges_nor_relieves_who_is_outside(pim, owner, size):
    kept = [
        {
            "folder": u["folder"].removeprefix("survey:"),
            "owner": u["owner"],
            "bytes": read_size(u["bytes"]),
            "files": u["files"],
        }
        for u in json.loads(owner.dump(as_json=True))["usage"]
        if u["folder"].startswith("survey:")
    ]
    others = next(row for row in kept if row["owner"] not in (None, "ines", "refa", "yuki"))
    before = owner.health().revision
    assert not pim.take_census(NewCensus(store="survey", rows=kept)).changed
    others["bytes"] = size
    assert "your area" in refused(
        403, lambda: pim.take_census(NewCensus(store="survey", rows=kept))
    )
    assert owner.health().revision == before


def test_reported_sign_ins_lock_no_address_for_others(pim, owner):
    failed = [{"what": "failed", "account": "ines", "address": "203.0.113.9"}] * 40
    assert "addresses lie in no area" in refused(403, lambda: pim.report_sign_ins(failed))
    began = [{"what": "began", "account": "ines", "address": "203.0.113.9"}]
    refused(403, lambda: pim.report_sign_ins(began))
    refused(
        403,
        lambda: pim.report_sign_ins(
            [{"what": "ended", "account": "bram", "address": "203.0.113.9"}]
        ),
    )
    assert (
        pim.report_sign_ins([{"what": "ended", "account": "ines", "address": "203.0.113.9"}]) == 1
    )
    assert not [c for c in owner.lockouts().counting if c.name == "203.0.113.9"]


@pytest.mark.parametrize(
    ("reported", "lifted"),
    [("2001:db8::9", "2001:DB8:0::9"), ("::ffff:203.0.113.7", "203.0.113.7")],
)
def test_the_lock_of_an_address_is_lifted_however_it_is_written(pim, owner, reported, lifted):
    owner.report_sign_ins([{"what": "failed", "account": "bram", "address": reported}] * 20)
    locked = [c for c in owner.lockouts().counting if c.of == "address"]
    assert [c.locked_until is not None for c in locked] == [True]
    assert "addresses lie in no area" in refused(403, lambda: pim.lift("address", lifted))
    owner.lift("address", lifted)
    assert not [c for c in owner.lockouts().counting if c.of == "address"]
    assert "no address" in refused(400, lambda: owner.lift("address", "everywhere"))
    owner.lift("account", "bram")


def test_what_clients_did_is_reported_of_accounts_of_the_area_only(own, pim):
    line = {
        "at": "2026-11-23T12:00:00Z",
        "session": 1,
        "why": "",
        "account": "bram",
        "endpoint": "harbour",
        "client": "127.0.0.1",
        "action": "list",
        "path": "/",
        "to": None,
        "allowed": True,
        "gate": None,
        "reason": "x",
        "text": "x",
        "owner": None,
        "note": None,
        "size": None,
    }
    with own.http(Authorization=f"Bearer {own.pims}") as http:
        said = http.post("/rehearsal/log", json={"draft": None, "lines": [line]})
        assert said.status_code == 403, said.text
        line["account"] = "ines"
        assert http.post("/rehearsal/log", json={"draft": None, "lines": [line]}).status_code == 200
