"""Small models of which something was said that was not so, and what is right."""

import json
from datetime import UTC, date, datetime

import pytest

from drawknife.answers import Answering
from drawknife.answers.previews import preview
from drawknife.changing import apply
from drawknife.client import Refused
from drawknife.core.everybody.findings import findings
from drawknife.core.everybody.promises import broken_promises
from drawknife.core.everybody.severity import SEVERITY
from drawknife.core.follows.trials_turned import trial_findings
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import DrawknifeError
from drawknife.formats.model_file import read_model

from ..conftest import run, serving

NOW = datetime(2026, 11, 24, 12, tzinfo=UTC)  # a Tuesday

TWO_WAYS = """drawknife: 1
accounts: [{name: refa}]
stores: [{name: survey, folders: [{path: /charts, entries: [allow anyone all]}]}]
virtual_paths:
  - {path: /look, leads_to: "survey:/charts", grants: [anyone look]}
  - {path: /work, leads_to: "survey:/charts", grants: [anyone all]}
promises:
  - name: refa-reads
    says: "everybody in account:refa may download at survey:/charts tree"
    kept: always
"""

UNIT_FOLDERS = """drawknife: 1
units: [fleet]
accounts: [{name: fulmar, unit: fleet}]
stores:
  - {name: homes, folders: [{path: /, entries: [allow anyone all]}, {path: /units/fleet}]}
virtual_paths:
  - {path: /unit, leads_to: "homes:/units/{unit}", grants: [anyone all]}
"""

WEEKEND = """drawknife: 1
accounts: [{name: ines}, {name: yuki}]
stores: [{name: survey, folders: [{path: /, entries: [allow anyone all]}]}]
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [anyone all]}]
endpoints: [{name: lab, protocol: sftp, port: 2222, never: ["account:ines"]}]
settings: [{for: "account:ines", hours: ["sat-sun 00:00-24:00"]}]
"""

CONFINED = """drawknife: 1
accounts: [{name: bram}, {name: odile}]
stores:
  - name: survey
    folders:
      - {path: /, entries: ["allow signed-in look"]}
      - {path: /site, entries: ["allow account:bram change"]}
      - {path: /site/odile, owner: odile}
      - {path: /desk, entries: ["allow owner delete-folder,rename"]}
      - {path: /desk/odile, owner: odile, entries: ["deny account:bram all"]}
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [signed-in all]}]
"""


def preview_of(model, changes, at=NOW):
    done = apply(model, changes)
    return preview(prepare(model), done.model, 1, at, done.renames)


def test_a_promise_to_everybody_is_kept_where_one_of_two_ways_has_the_right():
    model = read_model(TWO_WAYS)
    assert broken_promises(prepare(model), NOW.date()) == []
    # With the better way gone it is broken, and the change is refused.
    without = apply(
        model,
        [{"op": "remove", "kind": "virtual-path", "name": "/work", "leads_to": "survey:/charts"}],
    )
    assert [b.who for b in broken_promises(prepare(without.model), NOW.date())] == [("refa",)]


def test_a_renamed_folder_to_which_a_placeholder_leads_is_told():
    rename = {
        "op": "rename",
        "kind": "folder",
        "name": "homes:/units/fleet",
        "to": "homes:/units/old",
    }
    told = preview_of(read_model(UNIT_FOLDERS), [rename])
    assert not told.nothing
    assert [(x.accounts, x.location, x.before, x.after) for x in told.leads] == [
        (["fulmar"], "/unit", "homes:/units/old", "homes:/units/fleet")
    ]


@pytest.mark.parametrize("day", range(23, 30))
def test_what_a_change_does_to_signing_in_does_not_depend_on_the_hour(day):
    change = {
        "op": "change",
        "kind": "endpoint",
        "name": "lab",
        "drop": {"never": ["account:ines"]},
    }
    told = preview_of(read_model(WEEKEND), [change], NOW.replace(day=day))
    assert [(s.accounts, s.endpoint, s.may) for s in told.sign_in] == [(["ines"], "lab", True)]
    assert "sat-sun 00:00-24:00" in told.sign_in[0].why
    off = {"op": "change", "kind": "endpoint", "name": "lab", "set": {"enabled": False}}
    closed = preview_of(read_model(WEEKEND), [off], NOW.replace(day=day))
    assert [(s.accounts, s.may) for s in closed.sign_in] == [(["yuki"], False)]


def test_a_right_by_a_line_for_owners_is_told_of_own_files_only():
    change = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/site",
        "add": {"entries": ["allow owner all"]},
    }
    told = preview_of(read_model(CONFINED), [change])
    gains = {tuple(a.accounts): a for a in told.access if a.accounts == ["odile"]}[("odile",)]
    assert {"overwrite", "delete-file", "rename"} <= set(gains.gained) & set(gains.own)
    assert any(
        "delete-file (own files only)" in line or "download (own files only)" in line
        for line in told.summary
    )
    back = preview_of(
        apply(read_model(CONFINED), [change]).model, [{**change, "drop": change["add"], "add": {}}]
    )
    lost = next(a for a in back.access if a.accounts == ["odile"])
    assert set(lost.own) >= {"overwrite", "delete-file"} <= set(lost.lost)


# --- whose a folder's place is ------------------------------------------------------------------


def allowed(model, account, action, path, **more):
    return Answering(prepare(read_model(model)), 1, NOW).decide(
        {"account": account, "action": action, "path": path, **more}
    )["allowed"]


def test_who_changes_a_folder_neither_moves_nor_deletes_it():
    folder = {"thing": "folder"}
    assert not allowed(CONFINED, "bram", "delete-folder", "/survey/site")
    assert not allowed(CONFINED, "bram", "rename", "/survey/site", to="/survey/old", **folder)
    assert allowed(CONFINED, "bram", "delete-folder", "/survey/site/news")
    assert allowed(CONFINED, "bram", "rename", "/survey/site/news", to="/survey/site/old", **folder)


def test_where_its_owner_may_a_folder_counts_as_its_owners_thing_in_what_holds_it():
    folder = {"thing": "folder", "to": "/survey/desk/mine"}
    assert allowed(CONFINED, "odile", "rename", "/survey/desk/odile", **folder)
    assert not allowed(CONFINED, "bram", "rename", "/survey/desk/odile", **folder)
    # One that is not recorded is whose the question says it is.
    assert allowed(CONFINED, "bram", "delete-folder", "/survey/desk/new", owner="bram")
    assert not allowed(CONFINED, "bram", "delete-folder", "/survey/desk/new")


def test_a_deny_on_a_folder_protects_it_from_who_may_in_what_holds_it():
    model = CONFINED.replace('"allow owner delete-folder,rename"', '"allow signed-in change"')
    assert not allowed(model, "bram", "delete-folder", "/survey/desk/odile")
    assert not allowed(
        model, "bram", "rename", "/survey/desk/odile", to="/survey/desk/x", thing="folder"
    )
    assert not allowed(model, "odile", "delete-folder", "/survey/desk"), (
        "the root allows nobody to delete"
    )


# --- since when ---------------------------------------------------------------------------------

RENAMED = """drawknife: 1
accounts: [{name: bram}, {name: refa}]
stores:
  - {name: survey, folders: [{path: /, entries: ["allow anyone look", "allow owner delete-file"]}]}
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [anyone all]}]
endpoints: [{name: quay, protocol: sftp, port: 2222}]
"""


@pytest.fixture(scope="module")
def renamed(cluster, tmp_path_factory):
    """A service in which an account, an endpoint and a second account were renamed or removed."""
    folder = tmp_path_factory.mktemp("renamed")
    (folder / "model.yaml").write_text(RENAMED)
    with serving(
        cluster.create_database("renamed"), folder, "--load", str(folder / "model.yaml")
    ) as service:
        with service.client() as client:
            client.change([{"op": "rename", "kind": "account", "name": "bram", "to": "bramwell"}])
            client.change([{"op": "rename", "kind": "endpoint", "name": "quay", "to": "pier"}])
            client.change([{"op": "remove", "kind": "account", "name": "refa"}])
        yield service


def test_a_rename_is_no_turn(renamed):
    with renamed.client() as client:
        for more in ({}, {"endpoint": "pier"}):
            own = client.when("bramwell", "delete-file", "/survey/x", owner="bramwell", **more)
            others = client.when("bramwell", "delete-file", "/survey/x", owner=None, **more)
            assert [(t.allowed, t.revision) for t in own.turns] == [(True, 1), (None, None)]
            assert [(t.allowed, t.revision) for t in others.turns] == [(False, 1), (None, None)]


def test_a_removed_account_has_its_last_state_and_when_it_went(renamed):
    with renamed.client() as client:
        told = client.when("refa", "list", "/survey")
        assert told.allowed is None and [(t.allowed, t.revision) for t in told.turns] == [
            (None, 4),
            (True, 1),
            (None, None),
        ]
        assert (
            "no longer exists" in told.turns[0].text
            and "refa may list /survey" in told.turns[0].text
        )
    environment = {"DRAWKNIFE_URL": renamed.url, "DRAWKNIFE_TOKEN": renamed.token}
    assert json.loads(
        run("when", "refa", "list", "/survey", "--json", environment=environment).stdout
    )["turns"]
    assert run("when", "nobody", "list", "/survey", environment=environment).returncode == 2


# --- building a server, ports, findings ---------------------------------------------------------


def followed(client, *changes):
    return " | ".join(client.change(list(changes)).followed)


@pytest.fixture(scope="module")
def built(cluster, tmp_path_factory):
    """An empty service on which a server is built step by step."""
    folder = tmp_path_factory.mktemp("built")
    with serving(cluster.create_database("built"), folder) as service:
        yield service


def test_what_is_said_while_a_server_is_built_and_grows(built):
    """One story, as each part needs what is there by then."""
    while_it_is_built_no_step_is_called_useless_and_the_last_says_what_works(built)
    an_endpoint_that_runs_keeps_its_port(built)
    a_finding_is_accepted_until_a_day_and_then_counted_and_not_shown(built)


def while_it_is_built_no_step_is_called_useless_and_the_last_says_what_works(built):
    with built.client() as client:
        told = [
            followed(client, {"op": "add", "kind": "store", "item": {"name": "survey"}}),
            followed(
                client,
                {"op": "add", "kind": "account", "item": {"name": "ines", "methods": ["password"]}},
            ),
            followed(
                client,
                {
                    "op": "add",
                    "kind": "endpoint",
                    "item": {"name": "quay", "protocol": "sftp", "port": 2222},
                },
            ),
        ]
        assert not any("has no effect" in text for text in told), told
        set_ = client.set_password("ines", "a long enough password")
        assert set_.followed == ["ines can now sign in at quay"]
        again = client.set_password("ines", "another long password")
        assert again.followed == []


def an_endpoint_that_runs_keeps_its_port(built):
    with built.client() as client:
        done = client.change(
            [
                {
                    "op": "add",
                    "kind": "endpoint",
                    "item": {"name": "alpha", "protocol": "sftp", "port": 2222},
                }
            ]
        )
        assert any("alpha is switched off, as quay runs there" in note for note in done.notes)
        assert not any("can no longer sign in" in line for line in done.followed)
        assert not any("has no effect" in line for line in done.followed)
        later = {
            "op": "add",
            "kind": "endpoint",
            "item": {"name": "zulu", "protocol": "sftp", "port": 2222},
        }
        assert (
            client.preview([later]).without_effect == []
        )  # it does not start, and a finding says why
        kinds = {(f.kind, f.about): f for f in client.findings().findings}
        assert kinds["endpoint-port-taken", "alpha"].severity == "tidy-up"
        with pytest.raises(Refused, match="quay would stop"):
            client.change(
                [{"op": "change", "kind": "endpoint", "name": "alpha", "set": {"enabled": True}}]
            )
    environment = {"DRAWKNIFE_URL": built.url, "DRAWKNIFE_TOKEN": built.token}
    refused = run("endpoint", "change", "alpha", "--enabled", environment=environment)
    assert refused.returncode == 2 and "--yes" in refused.stderr
    assert (
        run("endpoint", "change", "alpha", "--enabled", "--yes", environment=environment).returncode
        == 0
    )
    with built.client() as client:
        assert ("endpoint-clash", "quay") in {(f.kind, f.about) for f in client.findings().findings}


def a_finding_is_accepted_until_a_day_and_then_counted_and_not_shown(built):
    environment = {"DRAWKNIFE_URL": built.url, "DRAWKNIFE_TOKEN": built.token}
    done = run(
        "finding",
        "accept",
        "endpoint-clash",
        "quay",
        "--until",
        "2099-01-01",
        "--note",
        "it is retired",
        environment=environment,
    )
    assert done.returncode == 0, done.stderr
    with built.client() as client:
        found = client.findings()
        assert "quay" not in {f.about for f in found.findings if f.kind == "endpoint-clash"}
        (accepted,) = found.accepted
        assert (accepted.about, accepted.accepted.note) == (
            "quay",
            "it is retired",
        ) and accepted.accepted.who
        assert client.overview().accepted == found.accepted
        with pytest.raises(Refused, match="is over"):
            client.accept_finding("endpoint-clash", "quay", date(2020, 1, 1), "late")
        with pytest.raises(Refused, match="no finding"):
            client.accept_finding("endpoint-clash", "pier", date(2099, 1, 1), "none")
    shown = run("findings", environment=environment)
    assert "endpoint-clash" not in shown.stdout and "1 more finding accepted" in shown.stderr
    assert "it is retired" in run("findings", "--accepted", environment=environment).stdout
    assert (
        run("finding", "reopen", "endpoint-clash", "quay", environment=environment).returncode == 0
    )
    assert "endpoint-clash" in run("findings", environment=environment).stdout


LEFT_BEHIND = """drawknife: 1
accounts: [{name: ines}, {name: bram}]
stores:
  - name: homes
    root: /srv/homes
    folders:
      - {path: /, entries: ["allow signed-in enter here"]}
      - {path: /ines, owner: ines, sealed: true, entries: ["allow account:ines all"]}
      - {path: /bram, owner: bram, sealed: true}
      - {path: /yuki, sealed: true}
      - {path: /team, entries: ["allow account:ines read"]}
      - {path: /team/plans}
virtual_paths:
  - {path: /home, leads_to: "homes:/{account}", grants: [signed-in all]}
  - {path: /team, leads_to: "homes:/team", grants: ["account:ines read", "account:bram read"]}
"""


def test_what_is_left_behind_or_of_no_use_is_found():
    kinds = {(f.kind, f.about) for f in findings(prepare(read_model(LEFT_BEHIND)))}
    assert {
        ("owner-cannot-enter", "homes:/bram"),
        ("folder-without-account", "homes:/yuki"),
        ("grant-of-no-use", "/team"),
    } == kinds
    assert kinds <= {(kind, about) for kind, about in kinds if kind in SEVERITY}


def test_renaming_a_folder_says_who_sees_another_path_and_that_the_disk_must_follow():
    rename = {
        "op": "rename",
        "kind": "folder",
        "name": "homes:/team/plans",
        "to": "homes:/team/drafts",
    }
    done = apply(read_model(LEFT_BEHIND), [rename])
    assert any("/srv/homes/team/plans to /srv/homes/team/drafts" in note for note in done.notes)
    told = preview_of(read_model(LEFT_BEHIND), [rename])
    (moved,) = (f for f in told.new_findings if f.kind == "path-renamed")
    assert "/team/plans is /team/drafts now for ines" in moved.text and "bram" not in moved.text


def test_a_virtual_path_is_renamed_with_what_names_a_location_in_it():
    model = read_model(
        LEFT_BEHIND
        + """settings: [{for: "account:ines", landing: /team/plans}]
promises: [{name: p, says: "nobody in account:bram may upload at /team tree"}]
trials: [{name: t, as: ines, steps: ["list /team: yes", "list /home: yes"]}]
"""
    )
    after = apply(
        model, [{"op": "rename", "kind": "virtual-path", "name": "/team", "to": "/desk"}]
    ).model
    assert [v.path for v in after.virtual_paths] == ["/desk", "/home"]
    assert (
        dict(after.settings[0].values)["landing"] == "/desk/plans"
        and after.promises[0].says.place == "/desk"
    )
    assert [s.path for s in after.trials[0].steps] == ["/desk", "/home"]
    with pytest.raises(DrawknifeError, match="already"):
        apply(model, [{"op": "rename", "kind": "virtual-path", "name": "/team", "to": "/home"}])


GRACE = """drawknife: 1
accounts: [{name: ines}]
stores: [{name: survey, folders: [{path: /, entries: [allow anyone all]}]}]
virtual_paths: [{path: /survey, leads_to: "survey:/", grants: [anyone all]}]
quotas:
  - {name: pool, folder: "survey:/", soft_bytes: 10 KiB, hard_bytes: 100 KiB, grace: 2 days,
     bytes_over_since: 2026-11-24T12:00:00Z}
usage: [{folder: "survey:/", owner: ines, bytes: 20 KiB, files: 1}]
trials:
  - {name: within, as: ines, when: 2026-11-25T12:00:00Z, steps: ["upload /survey/x 5 KiB: yes"]}
  - {name: after, as: ines, when: 2026-11-27, steps: ["upload /survey/x 5 KiB: no, by limits"]}
  - {name: full, as: ines, when: 2026-11-25T12:00:00Z,
     steps: ["upload /survey/x 90 KiB: no, by limits"]}
"""


def test_a_soft_limit_and_its_grace_are_tried_by_a_trial_with_a_date():
    assert trial_findings(prepare(read_model(GRACE)), NOW) == []
