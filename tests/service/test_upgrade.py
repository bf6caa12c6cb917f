"""From the last release to this: both on one database, the older one running on."""

import os
import shutil
import subprocess
import sys
import zipfile

import psycopg
import pytest

from drawknife.client import ServiceUnavailable
from drawknife.records.database import OUTDATED_BY

from ..conftest import DEMO, ROOT, serving


def git(*arguments):
    return subprocess.run(["git", *arguments], cwd=ROOT, check=True, capture_output=True).stdout


@pytest.fixture(scope="module")
def released(tmp_path_factory):
    """The last release: its version, and its wheel, built of what was tagged and unpacked."""
    commit = (
        git("log", "-1", "--format=%H %s", "--extended-regexp", "--grep=^Release [0-9.]+$")
        .decode()
        .split()
    )
    if not commit:
        pytest.skip("there is no release in this checkout's history")
    folder = tmp_path_factory.mktemp("released")
    checkout = folder / "checkout"
    checkout.mkdir()
    subprocess.run(["tar", "-x"], cwd=checkout, input=git("archive", commit[0]), check=True)
    # The console is not what is tried here, and takes longest.
    shutil.copytree(ROOT / "console" / "dist", checkout / "console" / "dist")
    subprocess.run(
        [
            sys.executable,
            "-m",
            "pip",
            "wheel",
            "--quiet",
            "--no-deps",
            "--no-build-isolation",
            "--wheel-dir",
            folder,
            ".",
        ],
        cwd=checkout,
        check=True,
        capture_output=True,
    )
    (wheel,) = folder.glob("*.whl")
    with zipfile.ZipFile(wheel) as packed:
        packed.extractall(folder / "unpacked")
    return commit[2], folder / "unpacked"


def answered(service):
    """What a service says of one account; None where it refuses to answer."""
    try:
        with service.client() as client:
            return client.standing("ines").model_dump(exclude={"revision"}), client.dump()
    except ServiceUnavailable as error:
        assert "outdated" in str(error) or "newer" in str(error), error
        return None


def test_an_older_service_answers_as_before_or_refuses_and_a_restart_upgrades_it(
    released, address, tmp_path
):
    version, unpacked = released
    path = os.pathsep.join(filter(None, [str(unpacked), os.environ.get("PYTHONPATH")]))
    older_one = ("env", f"PYTHONPATH={path}")
    with serving(address, tmp_path, "--load", DEMO, through=older_one) as older:
        with older.client() as client:
            assert client.health().version == version
            client.change([{"op": "add", "kind": "account", "item": {"name": "zoe"}}])
        before = answered(older)
        with psycopg.connect(address) as connection:
            known = [name for (name,) in connection.execute("SELECT name FROM schema_steps")]
        with serving(address, tmp_path) as newer:
            assert answered(newer) == before
            with psycopg.connect(address) as connection:
                (misread,) = connection.execute(f"SELECT {OUTDATED_BY}", (known,)).fetchone()
            assert answered(older) == (before if misread is None else None)
            if misread is None:  # what one writes, the other answers from
                with older.client() as client:
                    client.change([{"op": "add", "kind": "account", "item": {"name": "zac"}}])
                assert "name: zac" in answered(newer)[1] and answered(newer) == answered(older)
            last = answered(newer)
    with serving(address, tmp_path) as upgraded:
        assert answered(upgraded) == last
