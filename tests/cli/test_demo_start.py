"""`./run demo` and `./run stop`: what they start, what a kill leaves behind, and how
that is ended.
"""

import os
import signal
import subprocess
import sys
from contextlib import contextmanager
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import httpx
import pytest
from tools.cluster import Cluster, free_port

from drawknife.formats.model_file import read_model

from ..conftest import DEMO, ROOT, run, serving, until


@contextmanager
def demo(folder):
    """The demo in a folder of its own: (process, its address, what it said).

    It serves when the block begins.
    """
    environment = {**os.environ, "DRAWKNIFE_RUN": str(folder), "DRAWKNIFE_PORT": "0"}
    command = [sys.executable, "-m", "tools.demo", "start"]
    process = subprocess.Popen(
        command, cwd=ROOT, env=environment, stderr=subprocess.PIPE, text=True
    )
    said = []
    for line in process.stderr:
        said.append(line)
        if "Ctrl-C stops" in line:
            break
    url = next((line.split()[-1] for line in said if "serves at" in line), None)
    assert url and "Ctrl-C stops" in said[-1], "".join(said)
    try:
        yield process, url, "".join(said)
    finally:
        if process.poll() is None:
            process.terminate()
        process.communicate(timeout=60)


def stop(folder):
    return subprocess.run(
        [sys.executable, "-m", "tools.demo", "stop"],
        cwd=ROOT,
        env={**os.environ, "DRAWKNIFE_RUN": str(folder)},
        capture_output=True,
        text=True,
        timeout=60,
    )


def answers(url):
    try:
        return httpx.get(url + "/api/v1/health", timeout=30).status_code == 200
    except httpx.HTTPError:
        return False


@pytest.fixture
def folder(tmp_path_factory):
    made = tmp_path_factory.mktemp("run")
    yield made
    stop(made)
    Cluster(made / "postgresql").throw_away()


def test_the_demo_serves_its_model_and_stops_all_that_it_started(folder):
    with demo(folder) as (process, url, said):
        assert answers(url)
        token = (folder / "admin-token").read_text().strip()
        assert token not in said and oct((folder / "admin-token").stat().st_mode)[-3:] == "600"
        done = run("access", "ines", environment={"DRAWKNIFE_URL": url, "DRAWKNIFE_TOKEN": token})
        assert done.returncode == 0 and "exchange" in done.stdout
        assert (folder / "files" / "survey" / "inbox" / "fulmar").is_dir()
        password = (Cluster(folder / "postgresql").folder / "password").read_text()
        assert password not in said
        process.send_signal(signal.SIGINT)
        assert process.wait(timeout=60) == 0
    assert not answers(url) and not Cluster(folder / "postgresql").running()


def test_a_second_start_does_nothing_again_and_keeps_the_token(folder):
    with demo(folder):
        token = (folder / "admin-token").read_text()
    with demo(folder) as (_, url, said):
        assert "making" not in said and "loaded" not in said and "applied" not in said
        assert (folder / "admin-token").read_text() == token and answers(url)


def test_what_a_kill_leaves_behind_is_ended_and_the_database_recovered(folder):
    with demo(folder) as (process, url, _):
        process.kill()
        process.wait()
        assert answers(url), "the service outlives the kill of its starter"
    rehearsal = int((folder / "rehearsal.pid").read_text())
    done = stop(folder)
    assert "ending the service" in done.stderr and "stopping PostgreSQL" in done.stderr
    assert "ending the rehearsal" in done.stderr
    until(lambda: not Path(f"/proc/{rehearsal}").exists(), 10**6)
    cluster = Cluster(folder / "postgresql")
    assert not cluster.running()
    cluster.start()
    os.kill(int((cluster.data / "postmaster.pid").read_text().splitlines()[0]), signal.SIGKILL)
    with demo(folder) as (_, url, _):
        assert answers(url)


def test_a_port_that_is_taken_is_avoided():
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert free_port(port) != port
    assert 0 < free_port() < 65536


def test_a_cluster_where_the_databases_user_cannot_come(tmp_path_factory):
    """In a folder closed to others, as temporary ones are, the data is kept elsewhere and that is
    said.
    """
    closed = tmp_path_factory.mktemp("closed")
    closed.chmod(0o700)
    said = []
    cluster = Cluster(closed / "deep" / "postgresql", said.append)
    try:
        assert cluster.create_database("x") if cluster.start() else None
        assert os.geteuid() != 0 or any("cannot come to" in line for line in said)
    finally:
        cluster.throw_away()
    assert not cluster.folder.exists()


def test_the_demo_has_two_months_of_history_by_several_people(address, tmp_path):
    """Weeks of it, one change that broke something and was taken back, a draft that waits; the
    model is the file's, and a disk was read.
    """
    from tools.demo import fill

    with serving(address, tmp_path, "--load", DEMO) as service:
        for _ in range(2):  # once is enough
            fill(service.url, service.token, address)
        with service.client() as client:
            assert {a.name: a.role for a in client.administrators().administrators} == {
                "administrator": "owner",
                "olga": "editor",
                "pim": "editor",
            }
            assert [t.called for t in client.tokens().tokens if t.kind == "token"] == [
                "administrator",
                "night-report",
            ]
            draft = client.draft("watch-keeps-charts")
            assert (
                draft.draft.writers == ["pim"]
                and draft.preview.item_count == 1
                and len(draft.comments) == 1
            )
            now, file = read_model(client.dump().encode()), read_model(DEMO.read_bytes())
            assert replace(now, settings=file.settings, disk_readings=()) == file
            # A disk was read since, and refuses what the model lets.
            (drifted,) = [x for x in client.drift("homes").rows if x.refused]
            assert (drifted.account, drifted.location) == (
                "refa",
                "/team",
            ) and "upload" in drifted.refused
            assert "disk-refuses" in [f.kind for f in client.findings().findings]
            lines = client.journal(limit=500).lines[::-1]
            assert [line.at for line in lines] == sorted(line.at for line in lines)
            assert lines[-1].at - lines[0].at > timedelta(days=56)
            assert {"olga", "pim", "administrator"} <= {line.who for line in lines}
            broke = next(line for line in lines if line.what == "change endpoint lab-sftp")
            asked = {"account": "yuki", "action": "sign-in", "endpoint": "lab-sftp"}
            assert not client.as_of(str(broke.revision)).decide(asked).allowed
            assert (
                client.as_of(str(broke.revision - 1)).decide(asked).allowed
                and client.decide(asked).allowed
            )
            assert {p.name: p.broken for p in client.promises().promises} == {
                "lab-reads-charts": False,
                "soundings-stay-inside": True,
            }
