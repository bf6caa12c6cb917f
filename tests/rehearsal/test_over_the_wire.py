"""Random actions of real clients over FTP and SFTP: each answer, and every file, against the plain
rules and plain files.

More of them: REHEARSAL_RUNS=200 pytest tests/rehearsal/test_over_the_wire.py
"""

import asyncio
import ftplib
import io
import os
from collections import Counter
from dataclasses import replace
from datetime import UTC, datetime
from random import Random

import asyncssh
import pytest
from tools.rehearsing import PASSWORD, standing

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.question import Question

from ..core.models import random_model
from ..core.reference import Reference

RUNS, ACTIONS = int(os.environ.get("REHEARSAL_RUNS") or 24), 850
NAMES = ("a", "b", "ada", "new", "x.txt", "y.txt")
DENIED, MISSING, IN_THE_WAY, DONE = "denied", "missing", "in the way", "done"


def plain_model(seed):
    """A random model whose accounts can all sign in, by FTP and by SFTP, and without limits: those
    are tried elsewhere.

    Much is let in it, so that much is done: every third denial and every other seal below the root
    stay, and all see a store's root besides.
    """
    rng = Random(seed)
    model = random_model(seed)
    all_rights = m.Grant(m.Subject("anyone"), (1 << 11) - 1)
    paths = tuple(
        replace(p, grants=(*p.grants, all_rights)) if rng.random() < 0.7 else p
        for p in model.virtual_paths
    )
    more = m.VirtualPath("/w", "s:/", "reachable", (all_rights,))

    def softer(folder):
        entries = tuple(
            e._replace(effect="allow") if e.effect != "allow" and rng.random() < 0.66 else e
            for e in folder.entries
        )
        return replace(
            folder,
            sealed=folder.sealed and folder.path != "/" and rng.random() < 0.5,
            entries=entries,
        )

    accounts = tuple(
        replace(
            a, enabled=True, expires=None, methods=() if a.kind == "anonymous" else ("password",)
        )
        for a in model.accounts
    )
    everybody = (m.Entry("allow", m.Subject("anyone"), (1 << 11) - 1),)
    endpoints = (
        m.Endpoint("pier", "sftp", 2222, entries=everybody),
        m.Endpoint("quay", "ftp", 2121, tls="off", entries=everybody),
    )
    stores = tuple(
        replace(s, capacity=None, baseline="open", folders=tuple(softer(f) for f in s.folders))
        for s in model.stores
    )
    return sound(
        replace(
            model,
            accounts=accounts,
            endpoints=endpoints,
            stores=stores,
            virtual_paths=(*paths, more),
            settings=(),
            quotas=(),
            usage=(),
            lockouts=(),
            promises=(),
            inside=(),
            openings=(),
            forwardings=(),
        )
    )


# --- what must come of it -----------------------------------------------------------------------


class Plain:
    """Files as a dictionary, and the rules as they are written: what each action must
    be answered.
    """

    def __init__(self, model):
        now = datetime.now(UTC)
        self.now, self.rules = now, Reference(model).on(now.date())
        self.files = {}  # (store, path): None for a folder, else bytes
        self.owners = {}
        self.recorded = {}
        for store in model.stores:
            self.make_all(store.name, "/")
            for folder in store.folders:
                self.make_all(store.name, folder.path)
                self.recorded[store.name, folder.path] = folder.owner
        for account in model.accounts:
            for found in self.rules.namespace(account.name).values():
                if found is not None:
                    self.make_all(*found[0])

    def make_all(self, store, path):
        self.files[store, "/"] = None
        at = ""
        for part in filter(None, path.split("/")):
            at += f"/{part}"
            self.files[store, at] = None

    def place(self, who, location):
        found = self.rules.resolve(who, location)
        return (found[1], found[2]) if found[0] == "real" else None

    def kind(self, who, location):
        """folder, file, or None."""
        found = self.rules.resolve(who, location)
        if found[0] == "synthetic":
            return "folder"
        if found[0] == "out":
            return None
        there = (found[1], found[2])
        kind = (
            None if there not in self.files else "folder" if self.files[there] is None else "file"
        )
        if self.fixed(who, location):
            return "folder"
        return kind

    def fixed(self, who, location):
        return self.rules.is_path(who, location) or self.rules.above_served(who, location)

    def owner(self, who, location):
        place = self.place(who, location)
        return None if place is None else self.owners.get(place) or self.recorded.get(place)

    def may(self, action, who, location, **more):
        owner = more.pop("owner", None)
        asked = Question(who, action, location, owner=owner, endpoint=more.pop("endpoint"), **more)
        return self.rules.verdict(asked, self.now)[0]

    def parent_is_folder(self, place):
        above = place[1].rsplit("/", 1)[0] or "/"
        return (place[0], above) in self.files and self.files[place[0], above] is None

    def do(self, action, who, endpoint, location, to=None, data=b"", replaces=True):
        """What must be answered: the outcome, and what is had besides."""
        kind, owner = self.kind(who, location), self.owner(who, location)

        def may(right, **more):
            return self.may(right, who, location, endpoint=endpoint, **more)

        if action == "enter":
            return (DENIED if not may("enter") else DONE if kind == "folder" else MISSING), None
        if action == "list":
            if not may("list"):
                return DENIED, None
            return (
                (DONE, self.seen(who, endpoint, location)) if kind == "folder" else (MISSING, None)
            )
        if action == "download":
            if not may("download", owner=owner):
                return DENIED, None
            return (
                (DONE, self.files[self.place(who, location)]) if kind == "file" else (MISSING, None)
            )
        if action in ("store", "append"):
            return self.write(action, who, location, kind, owner, data, may), None
        if action == "delete":
            if not may("delete-file", owner=owner):
                return DENIED, None
            if kind != "file":
                return MISSING, None
            self.drop(self.place(who, location))
            return DONE, None
        if action == "make-folder":
            if not may("make-folder"):
                return DENIED, None
            return self.made(who, location, kind, None), None
        if action == "remove-folder":
            if not may("delete-folder", thing="folder", owner=owner):
                return DENIED, None
            if kind != "folder":
                return MISSING, None
            place = self.place(who, location)
            if any(
                s == place[0] and p.startswith(place[1].rstrip("/") + "/") and p != place[1]
                for s, p in self.files
            ):
                return IN_THE_WAY, None
            self.drop(place)
            return DONE, None
        assert action == "rename"
        return self.renamed(who, location, to, kind, owner, replaces, may), None

    def write(self, action, who, location, kind, owner, data, may):
        if kind != "file":
            return self.made(who, location, kind, data) if may("upload") else DENIED
        right = "append" if action == "append" else "overwrite"
        if not may(right, owner=owner, **({"replaced_size": 0} if right == "append" else {})):
            return DENIED
        place = self.place(who, location)
        self.files[place] = (self.files[place] if right == "append" else b"") + data
        return DONE

    def made(self, who, location, kind, what):
        if kind is not None:
            return IN_THE_WAY
        place = self.place(who, location)
        if not self.parent_is_folder(place):
            return MISSING
        self.files[place], self.owners[place] = what, who
        if what is None:
            self.rules.made[place] = who
        return DONE

    def drop(self, place):
        self.files.pop(place)
        self.owners.pop(place, None)
        self.rules.made.pop(place, None)

    def renamed(self, who, location, to, kind, owner, replaces, may):
        there = self.kind(who, to)
        folder = kind == "folder"
        replacing = there == "file" and not folder and replaces
        below = []
        if folder and (at := self.place(who, location)) is not None:
            below = [
                p
                for p in self.files
                if p[0] == at[0] and (p[1] + "/").startswith(at[1].rstrip("/") + "/")
            ]
        files = sum(self.files[p] is not None for p in below) if folder else 1
        if not may(
            "rename",
            to=to,
            thing="folder" if folder else "file",
            owner=owner,
            replaces=replacing,
            size=0,
            files=files,
        ):
            return DENIED
        if kind is None:
            return MISSING
        one, other = self.place(who, location), self.place(who, to)
        if there is not None and (folder or there == "folder" or not replaces) and one != other:
            return IN_THE_WAY
        if not self.parent_is_folder(other):
            return MISSING
        if one == other:
            return DONE
        for place in below if folder else [one]:
            at = (other[0], other[1] + place[1][len(one[1]) :])
            self.files[at] = self.files.pop(place)
            self.owners.pop(at, None)
            if place in self.owners:
                self.owners[at] = self.owners.pop(place)
            self.rules.made.pop(at, None)
            if place in self.rules.made:
                self.rules.made[at] = self.rules.made.pop(place)
        return DONE

    def seen(self, who, endpoint, location):
        space = self.rules.namespace(who)
        names = set()
        for path in [p for p, found in space.items() if found is not None]:
            rest = (
                path[len(location.rstrip("/")) :]
                if (path + "/").startswith(location.rstrip("/") + "/")
                else ""
            )
            if rest.strip("/"):
                names.add(rest.strip("/").split("/")[0])
        place = self.place(who, location)
        if place is not None:
            top = place[1].rstrip("/")
            names |= {
                p[len(top) + 1 :]
                for s, p in self.files
                if s == place[0] and p.rsplit("/", 1)[0] == top and p != "/"
            }
        shown = set()
        for name in names:
            at = f"{location.rstrip('/')}/{name}"
            kind = self.kind(who, at)
            if kind == "folder" and not self.fixed(who, at):
                served = self.rules.resolve(who, at)
                if space[served[3]][2] != "all" and not self.may(
                    "enter", who, at, endpoint=endpoint
                ):
                    continue
            if kind is not None:
                shown.add(name)
        return shown


# --- the clients --------------------------------------------------------------------------------


class OverFtp:
    endpoint, replaces = "quay", True

    def __init__(self, there, account):
        self.ftp = there.ftp(account, "quay", tls=False)
        self.ftp.set_pasv(True)

    def do(self, action, location, to, data):
        ftp = self.ftp
        try:
            if action == "enter":
                return DONE, ftp.cwd(location) and None
            if action == "list":
                return DONE, {name for name, facts in ftp.mlsd(location)}
            if action == "download":
                got = io.BytesIO()
                ftp.retrbinary(f"RETR {location}", got.write)
                return DONE, got.getvalue()
            if action in ("store", "append"):
                ftp.storbinary(
                    f"{'STOR' if action == 'store' else 'APPE'} {location}", io.BytesIO(data)
                )
            elif action == "rename":
                ftp.rename(location, to)
            else:
                ftp.voidcmd(
                    f"{ {'delete': 'DELE', 'make-folder': 'MKD', 'remove-folder': 'RMD'}[action] }"
                    f" {location}"
                )
            return DONE, None
        except ftplib.error_perm as refused:
            said = str(refused)
            assert said.startswith("550"), said
            return (
                next(
                    k
                    for k, v in {
                        DENIED: "Not permitted",
                        MISSING: "no such",
                        IN_THE_WAY: "in the way",
                    }.items()
                    if v in said
                ),
                None,
            )

    def end(self):
        self.ftp.close()


class OverSftp:
    endpoint, replaces = "pier", True

    def __init__(self, there, account):
        self.loop = asyncio.new_event_loop()
        self.connection, self.sftp = self.loop.run_until_complete(self._come(there, account))

    async def _come(self, there, account):
        options = {
            "username": account,
            "password": PASSWORD,
            "known_hosts": None,
            "client_keys": None,
        }
        connection = await asyncssh.connect("127.0.0.1", there.ports["pier"], **options)
        return connection, await connection.start_sftp_client()

    def do(self, action, location, to, data):
        try:
            return DONE, self.loop.run_until_complete(self._do(action, location, to, data))
        except asyncssh.SFTPPermissionDenied:
            return DENIED, None
        except asyncssh.SFTPNoSuchFile:
            return MISSING, None
        except asyncssh.SFTPFailure:
            return IN_THE_WAY, None

    async def _do(self, action, location, to, data):
        sftp = self.sftp
        if action == "list":
            return {x for x in await sftp.listdir(location) if x not in (".", "..")}
        if action == "download":
            async with sftp.open(location, "rb") as file:
                return await file.read()
        if action in ("store", "append"):
            async with sftp.open(location, "wb" if action == "store" else "ab") as file:
                await file.write(data)
        elif action == "rename":
            await sftp.posix_rename(location, to)
        else:
            await {"delete": sftp.remove, "make-folder": sftp.mkdir, "remove-folder": sftp.rmdir}[
                action
            ](location)
        return None

    def end(self):
        self.connection.abort()
        self.loop.run_until_complete(self.connection.wait_closed())
        self.loop.close()


KINDS = (
    "enter",
    "list",
    "download",
    "store",
    "store",
    "append",
    "delete",
    "make-folder",
    "make-folder",
    "remove-folder",
    "rename",
)


def location(rng, plain, who):
    """Somewhere: mostly in what the account sees, and mostly where something is."""
    paths = [p for p, found in plain.rules.namespace(who).items() if found is not None] or ["/"]
    top = rng.choice([*paths, *paths, "/"])
    if rng.random() < 0.45:
        found = plain.rules.resolve(who, top)
        if found[0] == "real":
            inside = [
                p[len(found[2].rstrip("/")) :]
                for s, p in plain.files
                if s == found[1] and (p + "/").startswith(found[2].rstrip("/") + "/")
            ]
            return (
                (top.rstrip("/") + rng.choice(sorted(inside))).rstrip("/") or "/" if inside else top
            )
    return (
        top.rstrip("/") + "".join(f"/{rng.choice(NAMES)}" for _ in range(rng.randint(0, 3)))
    ) or "/"


def lying(there, model):
    """What really lies there."""
    found, root = {}, there.stand.tree.root
    for store in model.stores:
        for path in [root / store.name, *(root / store.name).rglob("*")]:
            name = "/" + str(path.relative_to(root / store.name)).strip(".")
            found[store.name, name] = None if path.is_dir() else path.read_bytes()
    return found


@pytest.mark.parametrize("seed", range(RUNS))
def test_each_answer_and_every_file_is_as_the_plain_rules_have_it(seed, tmp_path):
    rng = Random(seed)
    model = plain_model(seed + 4000)
    with standing(model, tmp_path / "rehearsal") as there:
        plain = Plain(model)
        clients = []
        for account in model.accounts:
            for kind in (OverFtp, OverSftp):
                try:
                    clients.append((account.name, kind(there, account.name)))
                except (ftplib.error_perm, asyncssh.PermissionDenied, asyncssh.DisconnectError):
                    continue  # a rule of signing in, which is tried elsewhere
        assert len(clients) > 2
        outcomes = Counter()
        for number in range(ACTIONS):
            who, client = rng.choice(clients)
            kind = rng.choice(KINDS if isinstance(client, OverFtp) else KINDS[1:])
            at, to = location(rng, plain, who), location(rng, plain, who)
            data = bytes([65 + number % 26]) * rng.choice([0, 1, 300])
            wanted = plain.do(kind, who, client.endpoint, at, to, data, client.replaces)
            found = client.do(kind, at, to, data)
            assert found == wanted, (number, who, client.endpoint, kind, at, to)
            outcomes[wanted[0]] += 1
            if number % 50 == 0 or os.environ.get("REHEARSAL_EACH"):
                assert lying(there, model) == plain.files, (
                    number,
                    who,
                    client.endpoint,
                    kind,
                    at,
                    to,
                    wanted,
                )
        assert lying(there, model) == plain.files
        assert {
            k: v for k, v in there.stand.tree.owners.items() if k in plain.files
        } == plain.owners
        for _, client in clients:
            client.end()
        # A model in which hardly anything is let, or hardly anything refused, would try little.
        assert outcomes[DENIED] > 50 and outcomes[DONE] > 30, outcomes
