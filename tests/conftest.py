"""What the tests share: a cluster of their own, services as processes, the command line as a process."""

import itertools
import os
import subprocess
from pathlib import Path

import pytest
from hypothesis import settings
from tools.cluster import Cluster
from tools.demo import add_credentials
from tools.serving import serving

from drawknife.answers import Answering
from drawknife.core.prepared import prepare
from drawknife.formats.model_file import read_model
from drawknife.records.database import Database, bring_up_to_date

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "demo" / "tidewrack.yaml"
DRAWKNIFE = ROOT / ".venv" / "bin" / "drawknife"
__all__ = ["DEMO", "DRAWKNIFE", "ROOT", "run", "serving"]

settings.register_profile("drawknife", deadline=None, derandomize=bool(os.environ.get("CI")), print_blob=True)
settings.load_profile("drawknife")


@pytest.fixture(scope="session")
def demo():
    return read_model(DEMO.read_bytes())


@pytest.fixture(scope="session")
def asking(demo):
    """Answers about the demo model, as of a fixed day."""
    from datetime import UTC, datetime

    return Answering(prepare(demo), 1, datetime(2026, 11, 23, 12, tzinfo=UTC))


@pytest.fixture(scope="session")
def cluster(tmp_path_factory):
    """A cluster of the tests' own; thrown away afterwards."""
    made = Cluster(tmp_path_factory.mktemp("cluster"))
    made.start()
    yield made
    made.throw_away()


_numbers = itertools.count(1)


@pytest.fixture
def address(cluster):
    """The address of a new, empty database."""
    return cluster.create_database(f"test_{os.getpid()}_{next(_numbers)}")


@pytest.fixture
def database(address):
    bring_up_to_date(address)
    made = Database(address)
    made.open()
    yield made
    made.close()


@pytest.fixture(scope="session")
def service(cluster, tmp_path_factory):
    """One service with the demo model, for tests that change nothing."""
    address = cluster.create_database(f"test_{os.getpid()}_demo")
    console = ["--console", ROOT / "console" / "dist"] if (ROOT / "console" / "dist" / "index.html").exists() else []
    with serving(address, tmp_path_factory.mktemp("service"), "--load", DEMO, *console) as found:
        add_credentials(found.url, found.token)
        yield found


def run(*arguments, given=None, environment=None):
    """Run the command line as a process, as off a terminal and 100 columns wide."""
    inherited = {k: v for k, v in os.environ.items() if not k.startswith("DRAWKNIFE") and k != "COLUMNS"}
    return subprocess.run(
        [DRAWKNIFE, *map(str, arguments)],
        input=given,
        capture_output=True,
        text=True,
        env={**inherited, "HOME": "/nonexistent", **(environment or {})},
        timeout=120,
    )


@pytest.fixture
def on_demo():
    """Run a command on the demo's model file: (status, what it printed, what it said)."""

    def command(*arguments, given=None):
        done = run(*arguments, "--model", DEMO, given=given)
        assert "Traceback" not in done.stderr
        return done.returncode, done.stdout, done.stderr

    return command
