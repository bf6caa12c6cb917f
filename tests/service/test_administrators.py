"""Who may do what: one table of routes and roles, administrators, their areas, links and passwords,
tokens of programs.
"""

import re
from datetime import UTC, datetime, timedelta

import httpx
import psycopg
import pytest
from tools.description import openapi

from drawknife.client import Client
from drawknife.core.words.roles import ROLES, covers
from drawknife.service.routes_and_roles import FOR_PEOPLE, ROLE_OF

from ..conftest import DEMO, run, serving
from .people import refused, signed_in

PASSWORD = "a long enough password"
OPEN = {
    ("GET", "/health"), ("GET", "/sessions"), ("POST", "/sessions"), ("DELETE", "/sessions"),
    ("GET", "/reviews"), ("POST", "/reviews/signed"),  # whoever has the code of a link
}  # fmt: skip


@pytest.fixture(scope="module")
def own(cluster, tmp_path_factory):
    address = cluster.create_database("administrators")
    with serving(
        address, tmp_path_factory.mktemp("administrators"), "--load", str(DEMO), "--processes", "2"
    ) as service:
        service.address = address
        with service.client() as owner:
            for role in ("reader", "drafter", "editor"):
                owner.add_administrator(f"the-{role}", role)
            owner.add_administrator(
                "pim", "editor", ["survey:/soundings", "unit:shore/lab"], reads="everything"
            )
            names = ("the-reader", "the-drafter", "the-editor", "pim")
            service.tokens = {name: signed_in(service, name) for name in names}
            owner.add_directory("sent", {"address": "scim:"})
            service.tokens |= {
                "program": owner.make_token("a-program", "owner").token,
                "provisioning": owner.make_token("a-provisioner", directory="sent").token,
                "ended": owner.make_token("an-ended-one").token,
                "nonsense": "dk_nonsense",
                "owner": service.token,
            }
            owner.end_token(next(t.id for t in owner.tokens().tokens if t.called == "an-ended-one"))
        yield service


@pytest.fixture
def owner(own):
    with own.client() as client:
        yield client


# --- routes and roles ---------------------------------------------------------------------------


def described():
    for path, methods in openapi()["paths"].items():
        for method in methods:
            yield method.upper(), path.removeprefix("/api/v1")


def test_every_route_stands_in_the_table_and_nothing_else_does():
    assert set(described()) - OPEN == set(ROLE_OF)


def filled(path):
    """A path that leads somewhere, if to nothing that there is."""
    return re.sub(
        r"{(\w+)}",
        lambda m: {"id": "1", "number": "1", "revision": "1", "of": "account"}.get(m[1], "nobody"),
        path,
    )


#: Who calls, and what they are: the roles as people, and who is less than a person.
PEOPLE = [f"the-{role}" for role in ROLES[:-1]] + ["pim", "owner"]
CALLERS = [*PEOPLE, "program", "provisioning", "ended", "nobody", "nonsense"]


def expected(caller, method, path):
    """Which refusal a caller meets at a route before anything is looked at, by the table; None: it
    is let in.
    """
    if (method, path) in OPEN:
        return None
    if caller in ("ended", "nobody", "nonsense"):
        return 401, "token"
    if caller == "provisioning":
        return 403, "provisions the directory"
    if caller == "program":
        return (403, "only people do this") if (method, path) in FOR_PEOPLE else None
    role = {"owner": "owner", "pim": "editor"}.get(caller) or caller.removeprefix("the-")
    needed = ROLE_OF[method, path]
    return None if covers(role, needed) else (403, f"takes the role {needed}")


@pytest.mark.parametrize(("method", "path"), sorted({*ROLE_OF, *OPEN}))
def test_each_route_lets_in_whom_the_table_says(own, method, path):
    """Routes from the API's description, callers of every kind: a route without a line in the table
    fails.
    """
    for caller in CALLERS:
        headers = {} if caller == "nobody" else {"Authorization": f"Bearer {own.tokens[caller]}"}
        refusal = expected(caller, method, path)
        if refusal is None and caller == "owner":
            continue  # it would really be done
        # From an address for each route: one that is refused too often is not looked at.
        number = sorted({*ROLE_OF, *OPEN}).index((method, path))
        with httpx.Client(
            transport=httpx.HTTPTransport(local_address=f"127.9.{number // 200}.{number % 200 + 1}")
        ) as http:
            answer = http.request(
                method,
                own.url + "/api/v1" + filled(path),
                headers=headers,
                json={} if method != "GET" else None,
            )
        if refusal is not None:
            assert answer.status_code == refusal[0] and refusal[1] in answer.json()["detail"], (
                caller,
                answer.text,
            )
        elif (method, path) not in OPEN:
            assert answer.status_code != 401, (caller, answer.text)
            told = answer.json().get("detail", "") if answer.status_code == 403 else ""
            assert (
                "only people" not in told and "takes the role" not in told
            ) or "owner" in told, (caller, answer.text)


def test_a_route_that_stands_nowhere_is_for_nobody(own, monkeypatch):
    from drawknife.core.words.errors import NotAllowed
    from drawknife.records.tokens import Holder
    from drawknife.service import security

    monkeypatch.delitem(security.ROLE_OF, ("GET", "/journal"))
    request = type(
        "R", (), {"method": "GET", "url_rule": type("U", (), {"rule": "/api/v1/journal"})}
    )
    with pytest.raises(NotAllowed):
        security.check_role(request, Holder("x", "owner", None, "x", True), "/api/v1")


# --- roles, on the running service --------------------------------------------------------------


def test_a_reader_asks_everything_and_sees_of_credentials_only_whether_there_are_any(owner, as_):
    owner.set_password("bram", PASSWORD)
    reader = as_("the-reader")
    assert reader.access("bram").rows
    assert reader.credentials("bram").model_dump() == {
        "account": "bram",
        "password_set": "set",
        "password_set_by": None,
        "has_keys": False,
        "keys": [],
        "followed": [],
    }
    assert as_("the-editor").credentials("bram").password_set_by == "administrator"
    assert "yours is reader" in refused(
        403, lambda: reader.change([{"op": "add", "kind": "unit", "name": "x"}])
    )


def test_an_editor_changes_the_model_but_not_the_network_nor_all_of_it(owner, as_):
    editor = as_("the-editor")
    editor.change([{"op": "add", "kind": "unit", "name": "shore/pier"}])
    network = [{"op": "change", "kind": "network", "set": {"inside": ["203.0.113.0/24"]}}]
    assert "the network takes the role owner" in refused(403, lambda: editor.change(network))
    assert any("you may not do it yourself" in n for n in editor.preview(network).notes)
    refused(403, lambda: editor.load(DEMO.read_bytes()))
    refused(403, lambda: editor.back_to("1"))
    assert owner.journal(who=editor.me().name).lines[0].what == "add unit shore/pier"


def test_an_area_bounds_what_is_changed_and_what_anybody_gains(as_, owner):
    pim = as_("pim")
    done = pim.change(
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/soundings/raw",
                "add": {"entries": ["allow unit:shore/lab look"]},
            }
        ]
    )
    assert done.changed
    elsewhere = [
        {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts",
            "add": {"entries": ["allow account:ines all"]},
        }
    ]
    said = refused(403, lambda: pim.change(elsewhere))
    assert (
        "not within your area (survey:/soundings, unit:shore/lab): folders survey:/charts" in said
    )
    assert any("not within your area" in n for n in pim.preview(elsewhere).notes)
    refused(403, lambda: pim.set_password("bram", PASSWORD))
    pim.set_password("ines", PASSWORD)
    refused(403, lambda: pim.lift("account", "bram"))
    refused(403, lambda: pim.lift("address", "192.0.2.1"))
    # To look and to propose is everybody's.
    assert pim.add_to_draft("for-odile", elsewhere).item_count == 1
    assert "not within your area" in refused(403, lambda: pim.apply_draft("for-odile"))
    assert as_("the-editor").apply_draft("for-odile").changed
    owner.back(owner.health().revision)


# --- people -------------------------------------------------------------------------------------


def test_the_last_owner_stays(owner):
    assert "the last owner" in refused(409, lambda: owner.remove_administrator("administrator"))
    assert "the last owner" in refused(
        409, lambda: owner.change_administrator("administrator", "reader")
    )
    assert "did you mean" in refused(404, lambda: owner.remove_administrator("administratr"))


@pytest.mark.parametrize(
    "name",
    [
        "night-report",
        "Night-Report",
        "pim",
        "PIM",
        "nіght-repοrt",
        "gone",
        "gone-too",
        "drawknife",
        "SCIM",
        "scіm",
    ],
)
def test_a_name_is_one_persons_or_one_programs_for_good(owner, name):
    """Drafts and the journal name their authors by it: not even who is gone leaves it to others,
    nor a name that looks so.
    """
    known = {t.called for t in owner.tokens().tokens} | {
        a.name for a in owner.administrators().administrators
    }
    if "night-report" not in known:
        owner.make_token("night-report")
        owner.make_token("gone")
        owner.end_token(next(t.id for t in owner.tokens().tokens if t.called == "gone"))
        owner.add_administrator("gone-too", "reader")
        owner.remove_administrator("gone-too")
    assert f"name: the name {name} is taken" in refused(
        400, lambda: owner.add_administrator(name, "reader")
    )
    assert "is taken" in refused(400, lambda: owner.make_token(name))


def test_a_program_makes_no_tokens_and_ends_nobodys_session(own, owner):
    """Else it would renew itself for ever; nor does it do what outlasts it: administrators,
    passwords, signatures.
    """
    made = owner.make_token("climber", "owner").token
    with Client(own.url, made) as program:
        assert program.me().name == "climber"
        session = next(t.id for t in program.tokens().tokens if t.kind != "code")
        for call in (
            lambda: program.make_token("climber-2"),
            lambda: program.end_token(session),
            lambda: program.sign_in_link("administrator"),
            lambda: program.add_administrator("climbers-friend", "owner"),
            lambda: program.change_administrator("pim", "owner"),
            lambda: program.remove_administrator("pim"),
            lambda: program.set_administrator_password("administrator", PASSWORD),
            lambda: program.sign_report(1, b"{}"),
            lambda: program.send_report(1, "edda@tidewrack.example"),
        ):
            assert "climber is a program of administrator" in refused(403, call)
    assert owner.me().name == "administrator"


def test_a_token_that_provisions_ends_with_its_makers_power(own, owner):
    owner.add_directory("crew", {"address": "scim:"})
    owner.add_administrator("wanda", "owner")
    with Client(own.url, signed_in(own, "wanda")) as wanda:
        token = wanda.make_token("crew-sync", directory="crew").token
    with httpx.Client(
        base_url=own.url + "/scim/v2", headers={"Authorization": f"Bearer {token}"}
    ) as scim:
        assert scim.get("/Users").status_code == 200
        owner.change_administrator("wanda", "editor", ["unit:fleet"])
        assert scim.get("/Users").status_code == 403
        assert "wanda" in scim.post("/Users", json={}).json()["detail"]
        owner.change_administrator("wanda", "owner", [])
        assert scim.get("/Users").status_code == 200
    owner.remove_directory("crew")


def test_ones_own_password_changes_with_the_present_one(own, owner):
    owner.add_administrator("vera", "reader")
    with Client(own.url, signed_in(own, "vera")) as vera:
        vera.set_administrator_password("vera", PASSWORD)  # the first one: there is none yet
    with Client(own.url, signed_in(own, "vera")) as vera:
        said = refused(400, lambda: vera.set_administrator_password("vera", PASSWORD + "2"))
        assert "current: this is not your password" in said
        refused(
            400, lambda: vera.set_administrator_password("vera", PASSWORD + "2", "a wrong password")
        )
        vera.set_administrator_password("vera", PASSWORD + "2", PASSWORD)
    owner.set_administrator_password("vera", PASSWORD)  # another's, as an owner


@pytest.mark.parametrize(
    "area", [["survey"], ["account:ines"], ["store:"], ["unit:shore/lab", "everything"]]
)
def test_an_area_that_is_none_is_refused(owner, area):
    assert "area: " in refused(400, lambda: owner.add_administrator("lena", "editor", area))
    refused(400, lambda: owner.add_administrator("lena", "owner", ["store:survey"]))


def test_a_link_signs_in_once(own, owner):
    link = owner.sign_in_link("the-reader").path.partition("#")[2]
    with httpx.Client(
        base_url=own.url + "/api/v1", headers={"X-Drawknife-Console": "1"}
    ) as browser:
        first = browser.post("/sessions", json={"token": link})
        assert (first.status_code, first.json()["role"]) == (200, "reader")
        assert browser.get("/accounts").status_code == 200
        again = browser.post("/sessions", json={"token": link})
        assert again.status_code == 401
        assert (
            "a link signs in once, and only for a while; ask an owner for another"
            in again.json()["detail"]
        )


def test_a_link_that_has_expired_signs_nobody_in(own, owner):
    link = owner.sign_in_link("the-reader").path.partition("#")[2]
    with psycopg.connect(own.address, autocommit=True) as connection:
        connection.execute(
            "UPDATE tokens SET expires = clock_timestamp() - interval '1 second' WHERE kind ="
            " 'code'"
        )
    answer = httpx.post(own.url + "/api/v1/sessions", json={"token": link})
    assert answer.status_code == 401 and "ask an owner for another" in answer.json()["detail"]


def test_a_password_signs_in_and_a_new_one_ends_the_sessions(own, owner):
    owner.add_administrator("olga", "editor")
    owner.set_administrator_password("olga", PASSWORD)
    with httpx.Client(
        base_url=own.url + "/api/v1", headers={"X-Drawknife-Console": "1"}
    ) as browser:
        assert (
            browser.post(
                "/sessions", json={"name": "olga", "password": "not her password"}
            ).status_code
            == 401
        )
        assert (
            browser.post("/sessions", json={"name": "OLGA", "password": PASSWORD}).json()["name"]
            == "olga"
        )
        assert (
            browser.put("/administrators/olga/password", json={"password": "short"}).status_code
            == 400
        )
        assert (
            browser.put("/administrators/pim/password", json={"password": PASSWORD}).status_code
            == 403
        )
        assert (
            browser.put(
                "/administrators/olga/password",
                json={"password": PASSWORD + "!", "current": PASSWORD},
            ).status_code
            == 204
        )
        assert browser.get("/accounts").status_code == 401
        assert browser.post("/sessions", json={"name": "olga"}).status_code == 400
    with psycopg.connect(own.address) as connection:
        kept = connection.execute(
            "SELECT password FROM administrators WHERE name = 'olga'"
        ).fetchone()[0]
    assert kept.startswith("$argon2id$")
    assert not any(PASSWORD in line.model_dump_json() for line in owner.journal(limit=1000).lines)


# --- tokens -------------------------------------------------------------------------------------


def test_a_token_is_no_wider_than_its_maker_and_ends_with_it(own, owner):
    owner.add_administrator("nils", "editor")
    nils = Client(own.url, signed_in(own, "nils"))
    assert "no wider than its maker's" in refused(403, lambda: nils.make_token("hoist", "owner"))
    program = Client(own.url, nils.make_token("hoist", "editor").token)
    program.change([{"op": "add", "kind": "unit", "name": "shore/hoist"}])
    assert owner.journal().lines[0].who == "hoist"
    owner.change_administrator("nils", "reader")
    assert "yours is reader" in refused(
        403, lambda: program.change([{"op": "add", "kind": "unit", "name": "shore/no"}])
    )
    assert owner.remove_administrator("nils") >= 2
    for gone in (nils, program):
        refused(401, gone.me)


def test_a_token_of_a_program_signs_nobody_in_to_the_console(own, owner):
    made = owner.make_token("cart", "reader")
    answer = httpx.post(own.url + "/api/v1/sessions", json={"token": made.token})
    assert answer.status_code == 401 and "the token of the program cart" in answer.json()["detail"]


def test_ended_is_ended_at_once_in_every_process(own, owner):
    for i in range(5):
        made = owner.make_token(f"brief-{i}", "reader")
        with Client(own.url, made.token) as program:
            for _ in range(4):
                assert program.me().name == f"brief-{i}"
        number = next(t.id for t in owner.tokens().tokens if t.called == f"brief-{i}")
        owner.end_token(number)
        for _ in range(8):  # by new connections, so that each process is met
            with Client(own.url, made.token) as program:
                refused(401, program.me)
    refused(404, lambda: owner.end_token(number))


def test_one_sees_and_ends_only_ones_own_tokens(owner, as_):
    reader = as_("the-reader")
    assert {t.administrator for t in reader.tokens().tokens} == {"the-reader"}
    of_others = next(t.id for t in owner.tokens().tokens if t.administrator != "the-reader")
    refused(404, lambda: reader.end_token(of_others))


def test_a_last_day_is_kept(own, owner):
    today = datetime.now(UTC).date()
    made = owner.make_token("until-today", "reader", str(today))
    listed = next(t for t in owner.tokens().tokens if t.called == "until-today")
    assert listed.last_day == today and listed.last_used is None
    with Client(own.url, made.token) as program:
        assert program.me().role == "reader"
    assert next(t for t in owner.tokens().tokens if t.called == "until-today").last_used is not None
    refused(
        400, lambda: owner.make_token("until-yesterday", "reader", str(today - timedelta(days=1)))
    )


# --- the command line ---------------------------------------------------------------------------


def test_administrators_by_command_line(own):
    def drawknife(*arguments, given=None):
        done = run(*arguments, given=given, environment=own.environment)
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout, done.stderr

    status, link, said = drawknife(
        "administrator", "add", "rune", "--role", "editor", "--area", "unit:fleet"
    )
    assert status == 0 and "/sign-in#dk_" in link and "good once" in said
    assert "unit:fleet" in drawknife("administrator", "list")[1]
    assert "for everything" in drawknife("administrator", "change", "rune", "--everything")[2]
    assert drawknife("administrator", "change", "rune")[0] == 2
    assert drawknife("administrator", "add", "sven")[0] == 2
    assert drawknife("administrator", "password", "rune", given="short\n")[0] == 2
    assert drawknife("administrator", "password", "rune", given=PASSWORD + "\n")[0] == 0
    status, token, _ = drawknife("token", "make", "rota", "--role", "drafter")
    assert status == 0
    assert (
        run(
            "group",
            "join",
            "boats",
            "ines",
            environment={**own.environment, "DRAWKNIFE_TOKEN": token.strip()},
        ).returncode
        == 2
    )
    assert "rota" in drawknife("token", "list")[1]
    assert drawknife("token", "end", "rota")[0] == 0
    assert drawknife("token", "end", "rota")[0] == 2
    assert "no administrator any more" in drawknife("administrator", "remove", "rune")[2]


# --- last, as it keeps this address out for a while ---


def test_a_name_that_is_tried_too_often_is_not_looked_at(own, owner):
    """From wherever it is tried: the counter is of the name, too."""
    from drawknife.service.security import MOST_REFUSED

    owner.add_administrator("tried", "reader")
    owner.set_administrator_password("tried", PASSWORD)
    told = set()
    for i in range(2 * MOST_REFUSED + 2):  # two processes, each with its own count
        answer = httpx.post(
            own.url + "/api/v1/sessions", json={"name": "tried", "password": f"wrong {i}"}
        )
        told.add(answer.status_code)
    assert told == {401, 429}
