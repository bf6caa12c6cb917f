"""Syncs at an interval: the first waits for a person, and one that fails is reported everywhere
until it is good again.
"""

import json

import httpx
import pytest

from ..conftest import ROOT, run, serving, until

BASE = "ou=harbour-bureau,dc=tidewrack,dc=example"


@pytest.fixture
def bureau(tmp_path):
    """A copy of the demo's LDIF file, in a folder that the service may read."""
    folder = tmp_path / "files"
    folder.mkdir()
    file = folder / "bureau.ldif"
    file.write_text((ROOT / "demo" / "bureau.ldif").read_text())
    return file


def test_the_first_sync_waits_and_later_ones_that_fail_are_reported(cluster, tmp_path, bureau):
    with (
        serving(
            cluster.create_database("by_itself"), tmp_path, "--files", bureau.parent
        ) as service,
        service.client() as client,
    ):

        def said(*words, given=None):
            done = run(*words, environment=service.environment, given=given)
            assert "Traceback" not in done.stderr
            return done.returncode, done.stdout + done.stderr

        def kinds():
            return {f.kind: f for f in client.findings().findings if f.about == "bureau"}

        status, text = said(
            "directory",
            "add",
            "bureau",
            "--address",
            bureau,
            "--people-base",
            BASE,
            "--interval",
            "1",
        )
        assert status == 0 and "before the first sync" in text
        assert "waits for the first sync" in said("directory", "list")[1]
        assert "drawknife sync bureau" in kinds()["sync-waits"].text
        status, text = said("sync", "bureau", given="n\n")
        assert status == 1 and "would be synced" in text and client.directory("bureau").last is None
        status, text = said("sync", "bureau", "--yes")
        (revision,) = {client.directory("bureau").last.revision}
        followed = client.journal_line(revision).followed
        assert status == 0 and followed and all(line in " ".join(text.split()) for line in followed)
        assert client.directory("bureau").confirmed
        assert not kinds() and client.accounts().total
        # From now on it goes by itself, and what goes wrong is reported wherever somebody may look.
        bureau.write_text("nonsense")
        failed = until(lambda: kinds().get("sync-failed"))
        assert "since 20" in failed.text and "the last good one was at 20" in failed.text
        assert "failed since" in said("directory", "list")[1]
        assert [f.kind for f in client.overview().findings if f.about == "bureau"] == [
            "sync-failed"
        ]
        numbers = httpx.get(
            service.url + "/metrics", headers={"Authorization": f"Bearer {service.token}"}
        ).text
        assert 'drawknife_sync_last_good_timestamp_seconds{directory="bureau"} 1.' in numbers
        assert any(
            json.loads(line).get("state") == "failed"
            for line in service.said
            if line.startswith("{")
        )
        bureau.write_text((ROOT / "demo" / "bureau.ldif").read_text())
        until(lambda: not kinds())
