"""Whose area bounds what they read is answered about what is outside as about what is not there, at
every route.
"""

import json
import re

import pytest
from tools.description import openapi

from drawknife.client import Client
from drawknife.core.words.roles import EDITOR, covers
from drawknife.messages import NewCensus
from drawknife.service.routes_and_roles import OF_ALL, ROLE_OF

from ..conftest import serving
from .people import refused, signed_in

AREA = ["unit:fleet", "group:crew", "survey:/inbox", "store:charts"]
MODEL = """drawknife: 1
units: [fleet, hidden-unit]
accounts:
- {name: ines, unit: fleet}
- {name: bo, unit: fleet}
- {name: hidden-one, unit: hidden-unit, display: Hidden One, mail: hidden@example.org}
- {name: odile, unit: hidden-unit}
groups:
- {name: crew, members: ['account:ines', 'account:odile', 'group:outer']}
- {name: outer, members: ['account:hidden-one']}
- {name: around, members: ['account:ines', 'account:hidden-one', 'group:hidden-group']}
- {name: hidden-group, members: ['account:hidden-one', 'unit:hidden-unit']}
- {name: hidden-empty}
stores:
- name: charts
- name: survey
  capacity: 1 TiB
  note: hidden plans
  folders:
  - {path: /, entries: [allow group:around look here, allow account:hidden-one all here]}
  - {path: /hidden-folder, owner: hidden-one,
     entries: [allow account:hidden-one all, allow group:hidden-empty read]}
  - {path: /inbox, owner: odile, entries: [allow group:crew change, allow group:outer read]}
  - {path: /inbox/lab, entries: [deny account:bo look]}
- {name: hidden-store, folders: [{path: /x}]}
virtual_paths:
- {path: /survey, leads_to: 'survey:/', grants: [signed-in all, account:hidden-one read]}
- {path: /hidden-path, leads_to: 'hidden-store:/', grants: [account:hidden-one all]}
endpoints:
- {name: front, protocol: sftp, port: 22, never: ['account:hidden-one'], note: hidden note}
- {name: hidden-door, protocol: sftp, port: 2222, entries: [allow account:hidden-one all]}
settings:
- {for: 'account:hidden-one', sessions: 2}
- {for: 'signed-in', sessions: 5}
quotas:
- {name: of-all, shared_by: [signed-in], hard_bytes: 100 GiB}
- {name: hidden-quota, shared_by: ['account:hidden-one'], hard_bytes: 1 GiB}
usage:
- {folder: 'survey:/hidden-folder', owner: hidden-one, bytes: 5 GiB, files: 9}
- {folder: 'survey:/inbox', owner: ines, bytes: 1 GiB, files: 2}
lockouts:
- {of: account, failures: 3, within: 10 minutes, lasts: 30 minutes}
promises:
- {name: hidden-promise, says: nobody in account:hidden-one may read at survey:/inbox}
- {name: kept, says: nobody in unit:fleet may delete-folder at survey:/inbox}
trials:
- {name: hidden trial, as: hidden-one, at: hidden-door, steps: ['sign-in: yes']}
- {name: ines reads, as: ines, steps: ['list /survey/inbox: yes']}
"""
LINE = {
    "at": "2026-11-23T12:00:00Z",
    "session": 1,
    "why": "",
    "endpoint": "front",
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


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    folder = tmp_path_factory.mktemp("reading")
    (folder / "model.yaml").write_text(MODEL)
    with serving(
        cluster.create_database("reading"), folder, "--load", folder / "model.yaml"
    ) as service:
        with service.client() as owner:
            owner.add_administrator("seer", "editor", AREA)
            owner.add_administrator("hidden-admin", "editor")
            owner.make_token("hidden-program")
            owner.add_directory("hidden-directory", {"address": "scim:"})
            hidden = owner.change([set_note("account", "hidden-one")]).revision
            # Of two in one revision one lies outside: it is not shown.
            mixed = owner.change(
                [set_note("account", "ines"), set_note("account", "hidden-one", "more")]
            ).revision
            # A change in the area may concern others, who are not told of.
            shown = owner.change([entry("survey:/inbox/lab", "deny group:outer read")]).revision
            assert "hidden-one" in " ".join(owner.journal_line(shown).followed)
            owner.add_to_draft("hidden-draft", [set_note("account", "hidden-one", "in a draft")])
            owner.comment_on_draft("hidden-draft", "hidden words")
            report = owner.make_report("survey:/inbox").number
            owner.take_census(NewCensus(store="hidden-store", rows=[]))
            owner.report_sign_ins(
                [{"what": "failed", "account": "hidden-one", "address": "203.0.113.77"}] * 5
            )
        with service.http(Authorization=f"Bearer {service.token}") as http:
            lines = [{**LINE, "account": name} for name in ("hidden-one", "ines")]
            assert (
                http.post(
                    "/rehearsal/log", json={"draft": "hidden-draft", "lines": lines}
                ).status_code
                == 200
            )
        service.seer = signed_in(service, "seer")
        with Client(service.url, service.seer) as seer:
            seer.add_to_draft("mine", [entry("survey:/inbox", "allow account:ines read")])
            own_report = seer.make_report("survey:/inbox").number
        service.numbers = {
            "revision": (shown, hidden, 9999),
            "mixed": (shown, mixed, 9998),
            "report": (own_report, report, 9997),
        }
        yield service


@pytest.fixture
def seer(own):
    with Client(own.url, own.seer) as client:
        yield client


@pytest.fixture
def owner(own):
    with own.client() as client:
        yield client


def set_note(kind, name, note="a note"):
    return {"op": "change", "kind": kind, "name": name, "set": {"note": note}}


def entry(place, line):
    return {"op": "change", "kind": "folder", "name": place, "add": {"entries": [line]}}


#: Of each kind of thing one that is shown, one that is outside, and one that is not there at all.
THINGS = {
    "account": ("ines", "hidden-one", "hidden-onx"),
    "group": ("crew", "hidden-group", "hidden-grouq"),
    "unit": ("fleet", "hidden-unit", "hidden-unix"),
    "store": ("charts", "hidden-store", "hidden-storx"),
    "endpoint": ("front", "hidden-door", "hidden-doox"),
    "path": ("/survey", "/hidden-path", "/hidden-patx"),
    "place": ("survey:/inbox", "survey:/hidden-folder", "survey:/hidden-foldex"),
    "quota": ("of-all", "hidden-quota", "hidden-quotx"),
    "promise": ("kept", "hidden-promise", "hidden-promisx"),
    "draft": ("mine", "hidden-draft", "hidden-drafx"),
    "admin": ("seer", "hidden-admin", "hidden-admix"),
    "text": ("inbox", "idden-", "idden="),
}
QUESTION = {"account": "<account>", "action": "list", "path": "/survey/inbox", "explain": True}
FORMS = [
    QUESTION,
    {**QUESTION, "account": "ines", "endpoint": "<endpoint>"},
    {
        **QUESTION,
        "account": "ines",
        "action": "download",
        "path": "/survey/inbox/a",
        "owner": "<account>",
    },
    {**QUESTION, "account": "ines", "path": "<path>"},
    {**QUESTION, "account": "ines", "path": "/survey<path>"},
]
CHANGES = [
    [entry("survey:/inbox", "allow account:<account> read")],
    [entry("survey:/inbox", "allow group:<group> read")],
    [entry("survey:/inbox", "deny unit:<unit> read")],
    [{"op": "change", "kind": "group", "name": "crew", "add": {"members": ["account:<account>"]}}],
    [{"op": "change", "kind": "group", "name": "<group>", "add": {"members": ["account:ines"]}}],
    [{"op": "change", "kind": "folder", "name": "survey:/inbox", "set": {"owner": "<account>"}}],
    [
        {
            "op": "change",
            "kind": "setting",
            "name": "account:ines",
            "set": {"uploads_owner": "<account>"},
        }
    ],
    [{"op": "change", "kind": "account", "name": "<account>", "set": {"note": "x"}}],
    [{"op": "remove", "kind": "account", "name": "<account>"}],
    [{"op": "rename", "kind": "group", "name": "<group>", "to": "taken"}],
    [{"op": "remove", "kind": "store", "name": "<store>"}],
    [{"op": "change", "kind": "endpoint", "name": "<endpoint>", "set": {"port": 2022}}],
    [{"op": "remove", "kind": "quota", "name": "<quota>"}],
    [{"op": "remove", "kind": "promise", "name": "<promise>"}],
    [{"op": "remove", "kind": "virtual-path", "name": "<path>"}],
    [
        {
            "op": "add",
            "kind": "virtual-path",
            "item": {"path": "/c", "leads_to": "<store>:/", "grants": ["unit:fleet look"]},
        }
    ],
    [
        {
            "op": "add",
            "kind": "promise",
            "item": {"name": "p", "says": "nobody in group:<group> may read at <place>"},
        }
    ],
]
#: What is asked at each route: the query, and the body. `<kind>` stands for a thing.
ASKED = {
    ("GET", "/model"): [({}, None)],
    ("GET", "/model/schema"): [({}, None)],
    ("GET", "/findings"): [({}, None)],
    ("GET", "/idle"): [({}, None)],
    ("GET", "/journal"): [
        ({}, None),
        ({"about": "account:<account>"}, None),
        ({"about": "<place>"}, None),
        ({"who": "<admin>"}, None),
        ({"kind": "census"}, None),
        ({"kind": "other"}, None),
        ({"kind": "sign-in"}, None),
    ],
    ("GET", "/journal/<revision>"): [({}, None)],
    ("GET", "/journal/<mixed>"): [({}, None)],
    ("GET", "/accounts"): [
        ({}, None),
        ({"matching": "<text>"}, None),
        ({"locked": "true"}, None),
        ({"no_credential": "true"}, None),
    ],
    ("GET", "/accounts/<account>"): [({}, None)],
    ("GET", "/accounts/<account>/standing"): [({}, None)],
    ("GET", "/accounts/<account>/access"): [
        ({}, None),
        ({"endpoint": "<endpoint>"}, None),
        ({"matching": "<text>"}, None),
    ],
    ("GET", "/accounts/ines/access"): [
        ({"endpoint": "<endpoint>"}, None),
        ({"under": "/survey"}, None),
        ({"under": "<path>"}, None),
    ],
    ("GET", "/accounts/<account>/listing"): [({"location": "/survey"}, None)],
    ("GET", "/accounts/ines/listing"): [
        ({"location": "<path>"}, None),
        ({"location": "/survey<path>"}, None),
    ],
    ("GET", "/groups"): [({}, None), ({"matching": "<text>"}, None)],
    ("GET", "/units"): [({}, None)],
    ("GET", "/subjects"): [
        ({"subject": "group:<group>"}, None),
        ({"subject": "unit:<unit>"}, None),
        ({"subject": "group:around"}, None),
    ],
    ("GET", "/accounts/<account>/ways"): [({}, None)],
    ("GET", "/accounts/ines/ways"): [({"group": "<group>"}, None)],
    ("GET", "/accounts/<account>/without"): [({"subject": "crew"}, None)],
    ("GET", "/accounts/ines/without"): [({"subject": "group:<group>"}, None)],
    ("GET", "/accounts/<account>/credentials"): [({}, None)],
    ("PUT", "/accounts/<account>/password"): [({}, {})],
    ("DELETE", "/accounts/<account>/password"): [({}, None)],
    ("POST", "/accounts/<account>/password/check"): [({}, {"password": "hidden"})],
    ("POST", "/accounts/<account>/keys"): [({}, {"key": "ssh-ed25519 AAAA"})],
    ("DELETE", "/accounts/<account>/keys/SHA256:x"): [({}, None)],
    ("GET", "/items"): [
        ({"kind": kind}, None)
        for kind in (
            "unit",
            "account",
            "group",
            "store",
            "folder",
            "virtual-path",
            "endpoint",
            "setting",
            "quota",
            "lockout",
            "promise",
            "trial",
            "disk-reading",
            "descriptor-reading",
        )
    ],
    ("GET", "/item"): (
        [
            ({"kind": kind, "name": f"<{kind}>"}, None)
            for kind in ("account", "group", "unit", "store", "endpoint", "quota", "promise")
        ]
        + [
            ({"kind": "folder", "name": "<place>"}, None),
            ({"kind": "virtual-path", "name": "<path>"}, None),
            ({"kind": "setting", "name": "account:<account>"}, None),
            ({"kind": "network", "name": "network"}, None),
            ({"kind": "account", "name": "odile"}, None),
            ({"kind": "group", "name": "outer"}, None),
        ]
    ),
    ("POST", "/changes/preview"): (
        [({}, {"changes": c}) for c in CHANGES] + [({"draft": "<draft>"}, {"changes": CHANGES[0]})]
    ),
    ("POST", "/changes/check"): [({}, {"changes": c}) for c in CHANGES],
    ("POST", "/changes"): [({}, {"changes": c}) for c in CHANGES],
    ("GET", "/endpoints/<endpoint>/reach"): [({"from": "198.51.100.7"}, None)],
    ("GET", "/endpoints/<endpoint>/certificate"): [({}, None)],
    ("POST", "/sign-ins"): [
        ({}, {"events": [{"what": "ended", "account": "<account>", "address": "203.0.113.9"}]})
    ],
    ("GET", "/lockouts"): [({}, None)],
    ("DELETE", "/lockouts/account/<account>"): [({}, None)],
    ("GET", "/accounts/<account>/headroom"): [({"location": "/survey/inbox"}, None)],
    ("GET", "/usage"): [
        ({"by": by}, None) for by in ("account", "group", "unit", "folder", "store")
    ],
    ("GET", "/limits"): [({}, None)],
    ("GET", "/accounts/<account>/handover"): [({}, None), ({"endpoint": "<endpoint>"}, None)],
    ("GET", "/accounts/<account>/handover/document"): [({}, None)],
    ("GET", "/censuses"): [({}, None)],
    ("POST", "/censuses"): [
        (
            {},
            {
                "store": "<store>",
                "rows": [{"folder": "/", "owner": "hidden-one", "bytes": 5, "files": 1}],
            },
        ),
        (
            {},
            {
                "store": "charts",
                "rows": [{"folder": "/", "owner": "<account>", "bytes": 5, "files": 1}],
            },
        ),
    ],
    ("DELETE", "/censuses"): [({"store": "<store>", "at": "2026-11-23T12:00:00Z"}, None)],
    ("GET", "/overview"): [({}, None)],
    ("GET", "/stores"): [({}, None)],
    ("GET", "/folders"): [
        ({"place": "<place>"}, None),
        ({"place": "<store>:/"}, None),
        ({"place": "survey:/"}, None),
    ],
    ("GET", "/folders/inside"): [
        ({"place": "<place>"}, None),
        ({"place": "<store>:/"}, None),
        ({"place": "survey:/"}, None),
    ],
    ("GET", "/virtual-paths"): [({}, None)],
    ("GET", "/endpoints"): [({}, None)],
    ("POST", "/decisions"): [({}, form) for form in FORMS],
    ("POST", "/decisions/batch"): [({}, {"questions": FORMS})],
    ("POST", "/mends"): (
        [({}, {k: v for k, v in form.items() if k != "explain"}) for form in FORMS]
        + [
            ({}, {"account": "bo", "action": "list", "path": "/survey/inbox/lab"}),
            ({}, {**QUESTION, "account": "ines", "stop": True}),
        ]
    ),
    ("GET", "/who"): [
        ({"right": "list", "at": "<place>"}, None),
        ({"right": "list", "at": "<store>:/"}, None),
        ({"right": "list", "at": "<path>"}, None),
        ({"right": "list", "at": "/survey", "endpoint": "<endpoint>"}, None),
        ({"right": "list", "at": "/survey/inbox", "but_for": "folder"}, None),
    ],
    ("GET", "/map"): [
        ({}, None),
        ({"group": "<group>"}, None),
        ({"unit": "<unit>"}, None),
        ({"store": "<store>"}, None),
        ({"endpoint": "<endpoint>"}, None),
        ({"matching": "<text>"}, None),
        ({"under": "<path>"}, None),
    ],
    ("GET", "/comparisons"): [
        ({"one": "ines", "other": "<account>"}, None),
        ({"one": "<account>", "other": "ines"}, None),
        ({"one": "ines", "other": "bo", "endpoint": "<endpoint>"}, None),
    ],
    ("POST", "/comparisons"): [
        ({}, {"account": "<account>", "model": "drawknife: 1\\naccounts: [{name: ines}]\\n"})
    ],
    ("GET", "/find"): [
        ({"text": "<text>"}, None),
        ({"text": "<account>"}, None),
        ({"text": "e"}, None),
    ],
    ("GET", "/promises"): [({}, None)],
    ("GET", "/trials"): [({}, None)],
    ("GET", "/when"): [
        ({"account": "<account>", "action": "list", "path": "/survey/inbox"}, None),
        (
            {
                "account": "ines",
                "action": "list",
                "path": "/survey/inbox",
                "endpoint": "<endpoint>",
            },
            None,
        ),
    ],
    ("POST", "/back/preview"): [({}, {"revision": "<revision>"}), ({}, {"revision": "<mixed>"})],
    ("POST", "/back"): [({}, {"revision": "<revision>"}), ({}, {"revision": "<mixed>"})],
    ("GET", "/drafts"): [({}, None)],
    ("POST", "/drafts"): [({}, {"name": "hidden draft"})],
    ("GET", "/drafts/<draft>"): [({}, None)],
    ("DELETE", "/drafts/<draft>"): [({}, None)],
    ("POST", "/drafts/mine/changes"): [({}, {"changes": c}) for c in CHANGES],
    ("POST", "/drafts/hidden-draft/changes"): [({}, {"changes": CHANGES[0]})],
    ("POST", "/drafts/mine/back"): [({}, {"revision": "<revision>"}), ({}, {"as_of": "1"})],
    ("DELETE", "/drafts/<draft>/steps/99"): [({}, None)],
    ("POST", "/drafts/<draft>/comments"): [({}, {"says": "a word"})],
    ("POST", "/drafts/<draft>/apply"): [({}, None)],
    ("GET", "/patterns"): [({}, None)],
    ("GET", "/patterns/nothing"): [({}, None)],
    ("POST", "/patterns/nothing/changes"): [({}, {"answers": {}})],
    ("GET", "/rehearsal/log"): [
        ({}, None),
        ({"account": "<account>"}, None),
        ({"endpoint": "front"}, None),
    ],
    ("POST", "/rehearsal/log"): [
        ({}, {"draft": None, "lines": [{**LINE, "account": "<account>"}]})
    ],
    ("GET", "/administrators"): [({}, None)],
    ("PUT", "/administrators/<admin>/password"): [({}, {"password": "short"})],
    ("GET", "/tokens"): [({}, None)],
    ("POST", "/tokens"): [({}, {"called": "an owner's", "role": "owner"})],
    ("DELETE", "/tokens/1"): [({}, None)],
    ("GET", "/reports"): [({}, None)],
    ("POST", "/reports"): [
        ({}, {"about": "group:<group>"}),
        ({}, {"about": "<place>"}),
        ({}, {"about": "store:<store>"}),
    ],
    ("GET", "/reports/<report>"): [({}, None)],
    ("GET", "/reports/<report>/document"): [({"kind": "html"}, None)],
    ("GET", "/reports/<report>/returned"): [({}, None)],
    ("POST", "/reports/<report>/signed"): [({}, {})],
    ("POST", "/reports/<report>/links"): [({}, {"to": "edda@tidewrack.example"})],
}
READS = (
    "/decisions",
    "/decisions/batch",
    "/mends",
    "/changes/preview",
    "/changes/check",
    "/back/preview",
    "/comparisons",
)
#: What is asked of the model may be asked of it as it was, and as it would be.
TIMES = [{"as_of": "1"}, {"draft": "mine"}]


def of_the_table(path):
    """A path as the table of roles has it, of one that is asked here."""
    found = [x for x in ROLE_OF if len(x[1].split("/")) == len(path.split("/"))]
    return next(
        x[1]
        for x in sorted(found, key=lambda x: x[1].count("{"))
        if all(
            a.startswith("{") or a == b
            for a, b in zip(x[1].split("/"), path.split("/"), strict=True)
        )
    )


def test_every_route_is_asked():
    wanted = {x for x, role in ROLE_OF.items() if covers(EDITOR, role) and x not in OF_ALL}
    assert {(method, of_the_table(path)) for method, path in ASKED} == wanted


def filled(template, which, numbers):
    text = json.dumps(template)
    for kind, names in {**THINGS, **numbers}.items():
        name = str(names[which])
        text = text.replace(f'"<{kind}>"', name if kind in numbers else f'"{name}"').replace(
            f"<{kind}>", name
        )
    return json.loads(text)


def asked_for(path, query, body, numbers):
    """The things that are named in what is asked."""
    text = json.dumps([path, query, body])
    return [names for kind, names in {**THINGS, **numbers}.items() if f"<{kind}>" in text]


@pytest.mark.parametrize(("method", "path"), sorted(ASKED), ids=str)
def test_what_is_outside_is_answered_as_what_is_not_there(own, method, path):
    asks = method == "GET" or path in READS
    with own.http(Authorization=f"Bearer {own.seer}") as http:

        def answer(which, query, body):
            url = filled(path, which, own.numbers)
            return http.request(
                method,
                url,
                params=filled(query, which, own.numbers),
                json=filled(body, which, own.numbers),
            )

        for query, body in ASKED[method, path]:
            for more in [{}, *(TIMES if takes_as_of(method, path) else [])]:
                asked = {**query, **more}
                if asks:
                    told = answer(0, asked, body)
                    assert told.status_code < 500, told.text
                    assert "hidden" not in told.text.lower(), (asked, body, told.text)
                hidden, never = (answer(which, asked, body) for which in (1, 2))
                named = asked_for(path, asked, body, own.numbers)
                said = [bare(x.text, named, i) for i, x in enumerate((hidden, never), 1)]
                assert (hidden.status_code, said[0]) == (never.status_code, said[1]), (asked, body)
                if "hidden" not in json.dumps([path, asked, body]):
                    assert "hidden" not in said[0].lower(), (asked, body, hidden.text)


def takes_as_of(method, path):
    described = openapi()["paths"]["/api/v1" + of_the_table(path)][method.lower()]
    return method == "GET" and any(p["name"] == "as_of" for p in described.get("parameters", ()))


def bare(text, named, which):
    """An answer without the names that were asked about."""
    for names in named:
        name = str(names[which])
        text = re.sub(rf"\b{name}\b", "…", text) if name.isdecimal() else text.replace(name, "…")
    return re.sub(r'"number":\d+,|"made":"[^"]*",', "", text)  # each report is another


@pytest.mark.parametrize(("method", "path"), sorted(OF_ALL))
def test_what_is_about_everybody_is_for_who_reads_everything(own, method, path):
    with own.http(Authorization=f"Bearer {own.seer}") as http:
        url = path.replace("{store}", "charts").replace("{name}", "mine")
        found = http.request(method, url, json=None if method == "GET" else {})
        assert found.status_code == 403 and "outside your area" in found.json()["detail"]
        assert method != "GET" or http.head(url).status_code == 403
    with own.http(Authorization=f"Bearer {own.token}") as http:
        assert (
            "outside your area"
            not in http.request(method, url, json=None if method == "GET" else {}).text
        )


def test_metrics_are_for_who_reads_everything(own):
    with own.http(Authorization=f"Bearer {own.seer}") as http:
        assert http.get(f"{own.url}/metrics").status_code == 403


def test_what_touches_the_area_is_told(seer, own):
    assert [a.name for a in seer.accounts().accounts] == ["bo", "ines"]
    assert [g.name for g in seer.groups().groups] == ["around", "crew"]
    crew = seer.item("group", "crew").item
    assert crew["members"] == ["account:ines", "account:odile", "group:outer"]
    assert seer.item("unit", "fleet").item == {"path": "fleet"}
    inbox = seer.folder("survey:/inbox")
    assert inbox.owner == "odile" and "allow group:outer read" in [e.line for e in inbox.entries]
    assert [h.account for h in seer.who("list", "survey:/inbox").holders] == ["ines"]
    assert "outside your area are not checked" in " ".join(seer.who("list", "survey:/inbox").notes)
    assert [p.name for p in seer.promises().promises] == ["kept"]
    assert [t.name for t in seer.trials().trials] == ["ines reads"]
    lines = seer.journal().lines
    assert own.numbers["revision"][0] in [x.revision for x in lines]
    assert not {*own.numbers["revision"][1:], own.numbers["mixed"][1], 1} & {
        x.revision for x in lines
    }
    assert [x.account for x in seer.rehearsal_log().lines] == ["ines"]
    # What others own counts against what is left.
    assert seer.headroom("ines", "/survey/inbox").bytes == 94 * 2**30


def test_a_change_within_the_area_is_made_and_told_as_far_as_it_is_read(seer, owner):
    change = [entry("survey:/inbox/lab", "allow group:outer read")]
    before = seer.preview(change)
    assert not before.nothing and "outside your area are not checked" in " ".join(before.left_out)
    assert "nobody in your area gains or loses anything" in before.summary
    # It is without effect, but not for the reason that the area alone would give: somebody is in
    # the group.
    assert [x.reasons for x in before.without_effect] == [["no account gains or loses anything"]]
    assert [x.reasons for x in owner.preview(change).without_effect] != [
        ["no account gains or loses anything"]
    ]
    done = seer.change([entry("survey:/inbox/lab", "allow account:ines read")])
    assert done.changed and [x.name for x in done.items] == ["survey:/inbox/lab"]
    assert done.followed
    assert seer.back(done.revision).changed
    assert owner.journal().lines[0].who == "seer"
    # Others lose what they had in the area. The journal tells it to those who may read it.
    done = seer.change([entry("survey:/inbox", "deny group:outer upload")])
    try:
        assert done.followed == ["nobody in your area gains or loses anything"]
        assert "hidden-one" in " ".join(owner.journal_line(done.revision).followed)
    finally:
        seer.back(done.revision)


def test_what_concerns_others_is_refused_without_naming_them(seer, owner):
    trap = {
        "op": "add",
        "kind": "virtual-path",
        "item": {
            "path": "/survey",
            "leads_to": "charts:/",
            "grants": ["account:odile all", "signed-in all"],
        },
    }
    said = refused(403, lambda: seer.change([trap]))
    assert "your area" in said and "odile" not in said
    seen = seer.preview([trap])
    assert "you may not do it yourself" in " ".join(seen.notes) and "odile" not in " ".join(
        [*seen.notes, *seen.summary]
    )
    assert "odile" in " ".join(owner.preview([trap]).summary)


def test_more_may_be_read_than_is_changed(own, owner):
    owner.change_administrator("seer", reads="everything")
    try:
        with Client(own.url, own.seer) as seer:
            assert seer.me().reads == "everything"
            assert "hidden-one" in [a.name for a in seer.accounts().accounts]
            assert "your area" in refused(
                403, lambda: seer.change([set_note("account", "hidden-one", "x")])
            )
    finally:
        owner.change_administrator("seer", reads="area")
    with Client(own.url, own.seer) as seer:
        assert seer.me().reads == "area" and len(seer.accounts().accounts) == 2


def test_a_program_reads_no_more_than_its_maker(own, seer):
    token = seer.make_token("seers-program", "reader").token
    with Client(own.url, token) as program:
        assert [a.name for a in program.accounts().accounts] == ["bo", "ines"]
        assert program.decide(
            {"account": "ines", "action": "list", "path": "/survey/inbox"}
        ).allowed
        assert "there is no account" in refused(
            400, lambda: program.decide({"account": "hidden-one", "action": "list", "path": "/"})
        )
