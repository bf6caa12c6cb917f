"""What the tests share: a cluster of their own, services as processes, the command line as a
process.
"""

import itertools
import os
import subprocess
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx
import psycopg
import pytest
from hypothesis import settings
from tools.cluster import Cluster
from tools.in_process import in_process
from tools.serving import RUNNING, serving

from drawknife.answers import Answering, certificates
from drawknife.client import ServiceUnavailable
from drawknife.core.prepared.prepared import prepare
from drawknife.formats.model_file import read_model
from drawknife.records.database import Database, bring_up_to_date

ROOT = Path(__file__).resolve().parent.parent
DEMO = ROOT / "demo" / "tidewrack.yaml"
DRAWKNIFE = ROOT / ".venv" / "bin" / "drawknife"
__all__ = ["DEMO", "DRAWKNIFE", "ROOT", "run", "serving", "until"]

# The same examples at each run, so that a run never hangs on luck; `./run soak` goes through new
# ones.
SOAKING = bool(os.environ.get("DRAWKNIFE_SOAK"))
settings.register_profile(
    "drawknife",
    max_examples=100 if SOAKING else 70,
    deadline=None,
    derandomize=not SOAKING,
    database=None,
    print_blob=True,
)
settings.load_profile("drawknife")
# A busy machine is slow, not wrong. This is what bare calls of httpx go by where they say nothing.
httpx._config.DEFAULT_TIMEOUT_CONFIG.read = 60


@pytest.fixture(scope="session")
def demo():
    return read_model(DEMO.read_bytes())


@pytest.fixture(scope="session")
def asking(demo):
    """Answers about the demo model, as of a fixed day."""
    now = datetime(2026, 11, 23, 12, tzinfo=UTC)

    def seen(endpoint):
        return certificates.look(endpoint, now, lambda name: (DEMO.parent / name).read_bytes())

    return Answering(prepare(demo), 1, now, seen=seen)


class OwnCluster(Cluster):
    """A cluster in which each database is a new one, whatever it is to be called.

    What a module shares may be made more than once in a process, as its tests are shared out while
    they run.
    """

    _numbers = itertools.count(1)

    def create_database(self, name="test", like="template1"):
        return super().create_database(f"{name}_{next(self._numbers)}", like)


@pytest.fixture(scope="session")
def cluster(tmp_path_factory):
    """A cluster of the tests' own; thrown away afterwards."""
    made = OwnCluster(tmp_path_factory.mktemp("cluster"), lasting=False)
    made.start()
    yield made
    made.throw_away()


@pytest.fixture
def address(cluster):
    """The address of a new, empty database."""
    return cluster.create_database("test")


@pytest.fixture
def database(address):
    bring_up_to_date(address)
    made = Database(address)
    made.open()
    yield made
    made.close()


def give_credentials(address):
    """Something to sign in with for every account of the demo, beside the model: no revision comes
    of it.
    """
    with psycopg.connect(address, autocommit=True) as connection:
        connection.execute(
            "INSERT INTO passwords (account, hash, changed_by)"
            " SELECT name, 'none', 'test' FROM accounts WHERE 'password' = ANY(methods)"
            " ON CONFLICT DO NOTHING"
        )
        connection.execute(
            "INSERT INTO public_keys (account, fingerprint, kind, body, comment, added_by) SELECT"
            " name, 'SHA256:x', 'ssh-ed25519', 'x', '', 'test' FROM accounts WHERE 'key' ="
            " ANY(methods) ON CONFLICT DO NOTHING"
        )


@contextmanager
def apart():
    """A folder for a service's own secrets that lies below none that a test lets it read."""
    with TemporaryDirectory(prefix="drawknife-apart-") as name:
        yield Path(name)


@pytest.fixture(scope="session")
def service(cluster, tmp_path_factory):
    """One service with the demo model, for tests that change nothing."""
    address = cluster.create_database("demo")
    console = (
        ["--console", ROOT / "console" / "dist"]
        if (ROOT / "console" / "dist" / "index.html").exists()
        else []
    )
    with serving(address, tmp_path_factory.mktemp("service"), "--load", DEMO, *console) as found:
        give_credentials(address)
        yield found


def run(*arguments, given=None, environment=None):
    """Run the command line in this process, which is quicker by half a second: as off a terminal
    and 100 columns wide.
    """
    return in_process(map(str, arguments), given, {"HOME": "/nonexistent", **(environment or {})})


def run_process(*arguments, given=None, environment=None):
    """The same as a process of its own."""
    inherited = {
        k: v for k, v in os.environ.items() if not k.startswith("DRAWKNIFE") and k != "COLUMNS"
    }
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


def until(good, tries=200_000):
    """Ask until the answer is good; asking takes its time by itself."""
    for _ in range(tries):
        try:
            found = good()
        except ServiceUnavailable:
            continue
        if found:
            return found
    raise AssertionError("it did not come to that")


def pytest_collection_modifyitems(items):
    """What takes a minute by itself begins first, so that no worker waits for it at the end."""
    items.sort(key=lambda item: "test_install.py" not in item.nodeid)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item):
    """Where a test fails, what the services and the database said last is told with it."""
    report = yield
    if report.failed:
        logs = [(s.url, s.said) for s in RUNNING]
        if made := item.funcargs.get("cluster"):
            logs.append(
                (
                    str(made.folder),
                    (made.folder / "postgresql.log").read_text().splitlines(keepends=True),
                )
            )
        report.sections += [(f"said by {name}", "".join(lines[-30:])) for name, lines in logs]
    return report
