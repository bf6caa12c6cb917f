"""A rehearsal of a service: its own passwords and keys, each new revision, drafts, and what is
reported to it.
"""

import asyncio
import ftplib
import io

import asyncssh
import pytest
from tools.rehearsing import PASSWORD, standing

from drawknife.rehearsal.model_source import OfService

from ..conftest import DEMO, serving, until


@pytest.fixture(scope="module")
def service(cluster, tmp_path_factory):
    with serving(
        cluster.create_database("rehearsed"), tmp_path_factory.mktemp("rehearsed"), "--load", DEMO
    ) as found:
        yield found


@pytest.fixture
def client(service):
    with service.client() as found:
        found.load(DEMO.read_bytes())
        yield found


def refused(ftp, path):
    with pytest.raises(ftplib.error_perm):
        ftp.storbinary(f"STOR {path}", io.BytesIO(b"x"))


def test_a_new_revision_counts_at_the_next_action(client, tmp_path):
    entry = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts/review-2026",
        "add": {"entries": ["allow account:ines add"]},
    }
    with standing(None, tmp_path / "r", source=OfService(client)) as there:
        ftp = there.ftp("ines")
        refused(ftp, "/charts/review-2026/a")
        revision = client.change([entry]).revision
        ftp.storbinary("STOR /charts/review-2026/a", io.BytesIO(b"x"))
        client.back(revision)
        refused(ftp, "/charts/review-2026/b")


def test_a_draft_is_rehearsed_before_it_is_applied(client, tmp_path):
    entry = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts/review-2026",
        "add": {"entries": ["allow account:ines add"]},
    }
    client.add_to_draft("open", [entry])
    with standing(None, tmp_path / "r", source=OfService(client, "open")) as there:
        ftp = there.ftp("ines")
        ftp.storbinary("STOR /charts/review-2026/a", io.BytesIO(b"x"))
        drop = {**entry, "add": {"entries": ["deny account:ines upload"]}}
        client.add_to_draft("open", [drop])
        refused(ftp, "/charts/review-2026/b")
    client.drop_draft("open")


def test_accounts_sign_in_with_what_they_have(client, tmp_path):
    own = client.set_password("ines", "a password of her own").password
    key = asyncssh.generate_private_key("ssh-ed25519")
    client.add_key("ines", key.export_public_key().decode())
    with standing(
        None, tmp_path / "r", source=OfService(client), as_from={"": "192.0.2.10"}
    ) as there:
        there.ftp("ines", password=own or "a password of her own").quit()
        there.ftp("ines", password=PASSWORD).quit()
        with pytest.raises(ftplib.error_perm):
            there.ftp("odile", password="a password of her own")

        async def by_key(offered):
            options = {
                "username": "ines",
                "client_keys": [offered],
                "known_hosts": None,
                "password": None,
            }
            async with asyncssh.connect(
                "127.0.0.1", there.ports["lab-sftp"], **options
            ) as connection:
                return await (await connection.start_sftp_client()).listdir("/")

        with pytest.raises(asyncssh.PermissionDenied):
            asyncio.run(by_key(asyncssh.generate_private_key("ssh-ed25519")))
        before = len(there.lines)
        assert "charts" in asyncio.run(by_key(key))
        assert next((x.action, x.allowed) for x in there.lines[before:]) == ("sign-in", True)


def test_failures_and_sessions_are_reported(client, tmp_path):
    """The service knows of a session while it lasts, and counts what failed."""
    few = {"op": "add", "kind": "setting", "item": {"for": "account:odile", "sessions": 1}}
    client.set_password("odile")
    client.change([few])
    asked = {"account": "odile", "action": "sign-in", "endpoint": "harbour", "tls": True}
    with standing(None, tmp_path / "r", source=OfService(client)) as there:
        with pytest.raises(ftplib.error_perm):
            there.ftp("ines", password="wrong")
        until(lambda: "ines" in {c.name for c in client.lockouts().counting}, 3000)
        assert client.decide(asked).allowed
        ftp = there.ftp("odile")
        until(lambda: not client.decide(asked).allowed, 3000)
        assert "session" in client.decide(asked).text
        ftp.quit()
        until(lambda: client.decide(asked).allowed, 3000)
        assert "odile" not in {c.name for c in client.lockouts().counting}


def test_an_account_or_endpoint_that_goes_meanwhile_lets_nothing_more(client, tmp_path):
    with standing(None, tmp_path / "r", source=OfService(client)) as there:
        by_ftp, other = there.ftp("ines"), there.ftp("odile")
        client.change([{"op": "remove", "kind": "account", "name": "ines", "everywhere": True}])
        with pytest.raises(ftplib.error_perm, match="550 Not permitted"):
            by_ftp.nlst("/")
        trials = [{"op": "remove", "kind": "trial", "name": t.name} for t in client.trials().trials]
        client.change([*trials, {"op": "remove", "kind": "endpoint", "name": "harbour"}])
        with pytest.raises(ftplib.error_perm, match="550 Not permitted"):
            other.nlst("/")
        assert other.pwd() == "/"


def test_a_service_that_is_gone_leaves_the_last_model_in_force(cluster, tmp_path):
    with (
        serving(cluster.create_database("gone"), tmp_path, "--load", DEMO) as service,
        service.client() as client,
        standing(None, tmp_path / "r", source=OfService(client)) as there,
    ):
        ftp = there.ftp("ines")
        service.process.kill()
        service.process.wait()
        ftp.storbinary("STOR /charts/drafts/a", io.BytesIO(b"x"))
        refused(ftp, "/charts/review-2026/a")


def test_the_log_comes_to_the_service_as_it_happens(client, tmp_path):
    """Each action with its verdict, gate and reason, the newest first; what is asked for only; of a
    draft, its name.
    """
    with standing(None, tmp_path / "r", source=OfService(client)) as there:
        ftp = there.ftp("ines")
        refused(ftp, "/charts/issued/x")
        with pytest.raises(ftplib.error_perm):
            there.ftp("nobody-here")
        until(lambda: any(x.account == "nobody-here" for x in client.rehearsal_log().lines), 3000)
        lines = client.rehearsal_log().lines
        assert [(x.account, x.action, x.allowed) for x in lines[:3]] == [
            ("nobody-here", "sign-in", False),
            ("ines", "upload", False),
            ("ines", "sign-in", True),
        ]
        told = lines[1]
        assert (told.gate, told.path, told.endpoint, told.draft) == (
            "folder",
            "/charts/issued/x",
            "harbour",
            None,
        )
        assert (
            "no entry there" in told.text
            and told.why
            == "drawknife why ines upload /charts/issued/x --endpoint harbour --from 127.0.0.1"
            " --tls --method password"
        )
        assert [x.id for x in lines] == sorted((x.id for x in lines), reverse=True)
        only = client.rehearsal_log(account="INES", verdict="refused", endpoint="harbour").lines
        assert only and {(x.account, x.allowed) for x in only} == {("ines", False)}
        assert (
            client.rehearsal_log(after=lines[0].id).lines == []
            and len(client.rehearsal_log(most=1).lines) == 1
        )
    client.add_to_draft(
        "log", [{"op": "change", "kind": "account", "name": "odile", "set": {"enabled": False}}]
    )
    with standing(None, tmp_path / "d", source=OfService(client, "log")) as there:
        with pytest.raises(ftplib.error_perm):
            there.ftp("odile")
        until(lambda: client.rehearsal_log(most=1).lines[0].draft == "log", 3000)
        assert client.rehearsal_log(most=1).lines[0].why.endswith("--draft log")
        assert PASSWORD not in str(client.rehearsal_log().lines)
    client.drop_draft("log")


def test_the_log_says_how_much_of_it_is_kept(client):
    line = {
        "at": "2026-11-23T12:00:00Z",
        "session": 1,
        "account": "ines",
        "endpoint": "harbour",
        "client": "192.0.2.1",
        "action": "list",
        "path": "/",
        "allowed": True,
        "reason": "allowed",
        "text": "yes",
        "why": "drawknife why",
    }
    assert client.rehearsal_log().kept == 20_000
    with pytest.raises(Exception, match="at most 1000"):
        client.report_rehearsal([line] * 1001)
