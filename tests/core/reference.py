"""The rules once more, slow and literal, to compare the product with.

Written from the rules alone: nothing here is taken from the product but its plain data and the
spelling of names. Every function is the sentence that it stands for.
"""

from dataclasses import replace
from datetime import UTC
from ipaddress import ip_address, ip_network

from drawknife.core.model.items import Subject
from drawknife.core.words.names import BadValue, check_path

from . import reference_room as room

ELEVEN = [
    "enter",
    "list",
    "download",
    "upload",
    "overwrite",
    "append",
    "rename",
    "delete-file",
    "make-folder",
    "delete-folder",
    "set-attributes",
]
FOR_FILES = ("download", "overwrite", "append", "rename", "delete-file", "set-attributes")


def has(mask, right):
    return bool(mask >> ELEVEN.index(right) & 1)


def same(a, b):
    return a is not None and b is not None and a.casefold() == b.casefold()


def up_from(path):
    """The path, its parent, ..., the root."""
    while True:
        yield path
        if path == "/":
            return
        path = path.rsplit("/", 1)[0] or "/"


def is_above(a, b):
    return a != b and a in list(up_from(b))


def as_address(text):
    """An address; one of IPv4 that is written as one of IPv6 is the one of IPv4."""
    address = ip_address(text)
    return address.ipv4_mapped or address if address.version == 6 else address


def as_network(text):
    network = ip_network(text)
    if network.version == 6 and network.prefixlen >= 96 and network.network_address.ipv4_mapped:
        return ip_network(f"{network.network_address.ipv4_mapped}/{network.prefixlen - 96}")
    return network


def up(path):
    return path.rsplit("/", 1)[0] or "/"


class Reference:
    def __init__(self, model):
        self.model = model
        self.accounts = {a.name: a for a in model.accounts}
        self.stores = {s.name: s for s in model.stores}
        self._standing = {}
        self._namespace = {}
        #: Who made which folder, where that is known besides.
        self.made = {}
        #: Hours are not asked where it is told what a change does.
        self.asks_hours = True

    # 4. Until

    def on(self, day):
        """The rules for the model as it is on a day: a line counts to the end of the day that it
        names.
        """

        def counting(lines):
            return tuple(x for x in lines if x.until is None or x.until >= day)

        return Reference(
            replace(
                self.model,
                groups=tuple(replace(g, members=counting(g.members)) for g in self.model.groups),
                virtual_paths=tuple(
                    replace(v, grants=counting(v.grants)) for v in self.model.virtual_paths
                ),
                endpoints=tuple(
                    replace(e, entries=counting(e.entries)) for e in self.model.endpoints
                ),
                stores=tuple(
                    replace(
                        s, folders=tuple(replace(f, entries=counting(f.entries)) for f in s.folders)
                    )
                    for s in self.model.stores
                ),
            )
        )

    # 1. Standing

    def standing(self, name):
        if name not in self._standing:
            account = self.accounts[name]
            ranks = {Subject("account", name): (0, 0)}
            units = []
            if account.unit:
                parts = account.unit.split("/")
                units = ["/".join(parts[: len(parts) - i]) for i in range(len(parts))]
            for i, unit in enumerate(units):
                ranks[Subject("unit", unit)] = (2, i + 1)
            changed = True
            while changed:
                changed = False
                for group in self.model.groups:
                    steps = []
                    for member in (x.subject for x in group.members):
                        if member == Subject("account", name) or (
                            member.kind == "unit" and member.name in units
                        ):
                            steps.append(1)
                        elif member.kind == "group" and member in ranks:
                            steps.append(ranks[member][1] + 1)
                    me = Subject("group", group.name)
                    if steps and (me not in ranks or ranks[me][1] > min(steps)):
                        ranks[me] = (1, min(steps))
                        changed = True
            ranks[Subject("anonymous" if account.kind == "anonymous" else "signed-in")] = (3, 0)
            ranks[Subject("anyone")] = (4, 0)
            self._standing[name] = ranks
        return self._standing[name]

    # 5. Deciding

    def folder(self, store, path):
        return next((f for f in self.stores[store].folders if f.path == path), None)

    def matches(self, entry, name, right, own):
        if not has(entry.rights, right):
            return False
        return entry.subject in self.standing(name) or (entry.subject.kind == "owner" and own)

    @staticmethod
    def speaks(entry, depth):
        return {"tree": True, "here": depth == 0, "below": depth >= 1, "children": depth == 1}[
            entry.reach
        ]

    def decide(self, name, store, path, right, own):
        levels = [(depth, self.folder(store, at)) for depth, at in enumerate(up_from(path))]
        for depth, folder in levels:
            for entry in folder.entries if folder else ():
                if (
                    entry.effect == "forbid"
                    and self.matches(entry, name, right, own)
                    and self.speaks(entry, depth)
                ):
                    return False
        for depth, folder in levels:
            if folder is None:
                continue
            effects = [
                e.effect
                for e in folder.entries
                if e.effect != "forbid"
                and self.matches(e, name, right, own)
                and self.speaks(e, depth)
            ]
            if effects:
                return "deny" not in effects
            if folder.sealed:
                return False
        return self.stores[store].baseline == "open"

    def owns_folder(self, name, store, path):
        folder = self.folder(store, path)
        if folder is None or folder.owner is None:
            return self.made.get((store, path)) == name
        return folder.owner == name

    def may_enter(self, name, store, path):
        return self.decide(name, store, path, "enter", self.owns_folder(name, store, path))

    # 6. Virtual paths

    def leads(self, vpath, name):
        """(store, path), or None where it is unusable for the account."""
        account = self.accounts[name]
        if vpath.leads_to == "{home}":
            return tuple(account.home) if account.home else None
        store, path = vpath.leads_to.split(":", 1)
        if ("{unit}" in path or "{unit-path}" in path) and account.unit is None:
            return None
        path = path.replace("{account}", name)
        if account.unit is not None:
            path = path.replace("{unit}", account.unit.split("/")[-1]).replace(
                "{unit-path}", account.unit
            )
        try:
            return store, check_path(path)
        except BadValue:
            return None

    def namespace(self, name):
        """{path: None where it is not served, else (folder, ceiling, listing)}"""
        if name in self._namespace:
            return self._namespace[name]
        ranks = self.standing(name)
        out = {}
        for path in {v.path for v in self.model.virtual_paths}:
            ways = {}
            for i, vpath in enumerate(self.model.virtual_paths):
                grants = [g for g in vpath.grants if g.subject in ranks]
                if vpath.path == path and grants:
                    folder = self.leads(vpath, name)
                    ways.setdefault(folder or ("unusable", i), []).append((vpath, grants))
            if not ways:
                continue
            if len(ways) == 1:
                best = list(ways)
            else:
                rank = {
                    w: min(ranks[g.subject] for _, grants in found for g in grants)
                    for w, found in ways.items()
                }
                best = [w for w in ways if rank[w] == min(rank.values())]
            if len(best) > 1 or best[0][0] == "unusable":
                out[path] = None
                continue
            ceiling = 0
            for _, grants in ways[best[0]]:
                for grant in grants:
                    ceiling |= grant.rights
            listings = {v.listing for v, _ in ways[best[0]]}
            out[path] = (best[0], ceiling, "reachable" if "reachable" in listings else "all")
        self._namespace[name] = out
        return out

    def above_served(self, name, location):
        return any(there and is_above(location, p) for p, there in self.namespace(name).items())

    def is_path(self, name, location):
        return self.namespace(name).get(location) is not None

    def resolve(self, name, location):
        """("real", store, path, virtual path, top, ceiling), ("synthetic",) or ("out",)"""
        space = self.namespace(name)
        for at in up_from(location):
            if at in space:
                if space[at] is None:
                    break
                (store, top), ceiling, _ = space[at]
                rest = location[len(at) :] if at != "/" else location
                path = (top.rstrip("/") + "/" + rest.strip("/")).rstrip("/") or "/"
                return ("real", store, path, at, top, ceiling)
        return ("synthetic",) if self.above_served(name, location) else ("out",)

    # 7. and 8. Endpoints, gates

    def endpoint(self, name):
        return next(e for e in self.model.endpoints if same(e.name, name))

    def endpoint_allows(self, endpoint, name, right):
        found = [
            e.effect
            for e in endpoint.entries
            if has(e.rights, right) and e.subject in self.standing(name)
        ]
        return "allow" in found and "deny" not in found and "forbid" not in found

    def clash(self, a, b):
        one, other = as_address(a.address), as_address(b.address)
        if one.version != other.version or not (
            one == other or "0.0.0.0" in (a.address, b.address) or "::" in (a.address, b.address)
        ):
            return False
        ports_a = {a.port} | (
            set(range(a.passive_ports[0], a.passive_ports[1] + 1)) if a.passive_ports else set()
        )
        ports_b = {b.port} | (
            set(range(b.passive_ports[0], b.passive_ports[1] + 1)) if b.passive_ports else set()
        )
        if not ports_a & ports_b:
            return False
        return not (
            a.port == b.port
            and a.host_names
            and b.host_names
            and not set(a.host_names) & set(b.host_names)
        )

    def door(self, q):
        e = self.endpoint(q.endpoint)
        if not e.enabled:
            return False
        for other in self.model.endpoints:
            if other.enabled and other.name.casefold() < e.name.casefold() and self.clash(e, other):
                return False
        if q.client is None:
            return True
        control, data = self.reach(e, as_address(q.client))
        return control and (
            data or q.action not in ("list", "download", "upload", "overwrite", "append")
        )

    def reach(self, e, client):
        """(control, data): each port is looked at alone."""
        model, own = self.model, as_address(e.address)
        stated = model.inside or model.openings or model.forwardings
        if not stated or client.is_loopback or any(client in as_network(n) for n in model.inside):
            comes = own.version == client.version and (client.is_loopback or not own.is_loopback)
            return comes, comes

        def listens(address):
            other = as_address(address)
            return own == other or (own.is_unspecified and own.version == other.version)

        def is_open(address, port):
            return any(
                o.address == address
                and o.ports[0] <= port <= o.ports[1]
                and any(client in as_network(n) for n in o.networks)
                for o in model.openings
            )

        def leads(address, port):
            """Where a port outside leads: every (address, port) inside.

            What is not forwarded is its own.
            """
            forwarded = [
                (f.to_address, f.to_ports[0] + port - f.ports[0])
                for f in model.forwardings
                if f.address == address and f.ports[0] <= port <= f.ports[1]
            ]
            return forwarded or [(address, port)]

        if e.protocol == "sftp":
            data_ports = []
        elif e.passive_ports is None:
            data_ports = range(1024, 65536)
        else:
            data_ports = range(e.passive_ports[0], e.passive_ports[1] + 1)
        best = (False, False)
        outside = {o.address for o in model.openings} | {f.address for f in model.forwardings}
        for address in outside:
            for port in range(1, 60):
                for inside in [a for a, p in leads(address, port) if listens(a) and p == e.port]:
                    if is_open(address, port):
                        data = all(
                            is_open(address, p) and (inside, p) in leads(address, p)
                            for p in data_ports
                        )
                        best = max(best, (True, data))
        return best

    def setting(self, name, key):
        ranks = self.standing(name)
        found = [
            (ranks[s.subject], str(s.subject).casefold(), dict(s.values)[key])
            for s in self.model.settings
            if s.subject in ranks and key in dict(s.values)
        ]
        if not found:
            return None
        return [
            v
            for rank, _, v in sorted(found, key=lambda f: f[:2])
            if rank == min(f[0] for f in found)
        ]

    def admits(self, lines, client):
        best = None
        for line in lines:
            effect, network = line.split()
            if client in as_network(network):
                size = as_network(network).prefixlen
                if best is None or size > best[0] or (size == best[0] and effect == "deny"):
                    best = (size, effect)
        return best[1] == "allow" if best else not any(line.startswith("allow") for line in lines)

    def sign_in(self, q, now):
        account, e = self.accounts[q.account], self.endpoint(q.endpoint)
        at = (q.at or now).astimezone(UTC)
        if not account.enabled or (account.expires and at.date() > account.expires):
            return False
        if not any(self.endpoint_allows(e, q.account, right) for right in ELEVEN):
            return False
        counts = self.standing(q.account)
        if any(s in counts for s in e.never) or (
            e.only is not None and not any(s in counts for s in e.only)
        ):
            return False
        for lines in (self.setting(q.account, "hours") or []) if self.asks_hours else ():
            if not any(self.holds(line, at) for line in lines):
                return False
        most = [n for n in self.setting(q.account, "sessions") or [] if n != "unlimited"]
        if q.sessions is not None and most and q.sessions >= min(most):
            return False
        if q.client is not None:
            lists = self.setting(q.account, "addresses") or []
            if not all(self.admits(lines, as_address(q.client)) for lines in lists):
                return False
        if e.protocol != "sftp":
            wants = e.protocol == "ftps" or (e.tls or "required") == "required"
            wants = wants or any(self.setting(q.account, "require_tls") or [])
            if q.tls is False and wants:
                return False
            if q.tls is True and e.protocol == "ftp" and e.tls == "off":
                return False
        if account.kind != "anonymous":
            left = set(account.methods)
            if q.credentials is not None:
                left &= q.credentials
            if e.protocol != "sftp":
                left -= {"key"}
            for permitted in self.setting(q.account, "methods") or []:
                left &= set(permitted)
            if not left or (q.method is not None and q.method not in left):
                return False
        return True

    @staticmethod
    def holds(line, at):
        """Does a line of hours hold a moment? Every minute of the week is looked at."""
        days, times = line.split()
        names = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
        first, _, last = days.partition("-")
        day, allowed = names.index(first), {names.index(first)}
        while names[day] != (last or first):
            day = (day + 1) % 7
            allowed.add(day)
        begin, end = (int(t[:2]) * 60 + int(t[3:]) for t in times.split("-"))
        length = (end - begin) % (24 * 60) or 24 * 60
        minutes = {
            (d * 24 * 60 + begin + i) % (7 * 24 * 60) for d in allowed for i in range(length)
        }
        return at.weekday() * 24 * 60 + at.hour * 60 + at.minute in minutes

    def plan(self, q):
        """The rights needed: [(right, location, kind of thing)], whether it is a move within one
        folder.
        """
        if q.action != "rename":
            return [(q.action, q.path)], None
        one, other = self.resolve(q.account, up(q.path)), self.resolve(q.account, up(q.to))
        within = up(q.path) == up(q.to) or (one[0] == other[0] == "real" and one[1:3] == other[1:3])
        needs = [("rename", q.path)]
        if q.thing == "file" and q.replaces:
            needs.append(("overwrite", q.to))
        elif not within:
            needs.append(("upload" if q.thing == "file" else "make-folder", q.to))
        return needs, within

    def acts_on_file(self, q):
        if q.action in ("rename", "set-attributes"):
            return q.thing == "file"
        return q.action in ("download", "upload", "overwrite", "append", "delete-file")

    def virtual_path(self, q):
        needs, _ = self.plan(q)
        name = q.account
        for location in [q.path] + ([q.to] if q.to else []):
            where = self.resolve(name, location)
            if where[0] == "out" or (where[0] == "synthetic" and q.action not in ("enter", "list")):
                return False
            if where[0] == "synthetic":
                continue
            for right in ["enter"] + [r for r, at in needs if at == location]:
                if not has(where[5], right):
                    return False
            fixed = self.is_path(name, location) or self.above_served(name, location)
            if fixed and (self.acts_on_file(q) or q.action in ("delete-folder", "rename")):
                return False
            if q.action == "make-folder" and self.is_path(name, location):
                return False
        if q.to:
            here, there = self.resolve(name, q.path), self.resolve(name, q.to)
            if here[1] != there[1]:
                return False
            if q.thing == "folder" and (here[2] in list(up_from(there[2])) or q.replaces):
                return False
            if there[2] in list(up_from(here[2]))[1:]:  # what holds the thing is a folder
                return False
            if any(there[2] in list(up_from(f.path)) for f in self.stores[there[1]].folders):
                return False
        return True

    def folder_gate(self, q):
        needs, _ = self.plan(q)
        for right, location in needs:
            where = self.resolve(q.account, location)
            if where[0] != "real":
                continue
            _, store, path, _, top, _ = where
            on_destination = location == q.to and right != "rename"
            # The owner that a request names is that of a file, or of a folder that is not recorded.
            named = (
                self.folder(store, path) is None and not on_destination and same(q.owner, q.account)
            )
            enters_last = self.may_enter(q.account, store, path)
            if right in ("enter", "list"):
                folder, last, own = path, path, self.owns_folder(q.account, store, path) or named
                enters_last = self.decide(q.account, store, path, "enter", own)
            elif right in ("upload", "make-folder"):
                folder = last = up(path)
                own = self.owns_folder(q.account, store, folder)
            elif self.acts_on_file(q):
                folder = last = up(path)
                own = not on_destination and same(q.owner, q.account)
            else:
                folder, own = path, self.owns_folder(q.account, store, path) or named
                last = None if path == top else up(path)
            if last is not None:
                for at in up_from(last):
                    if not (
                        enters_last
                        if at == path and last == path
                        else self.may_enter(q.account, store, at)
                    ):
                        return False
                    if at == top:
                        break
            if not self.decide(q.account, store, folder, right, own):
                return False
            leaves = right == "delete-folder" or (right == "rename" and not self.acts_on_file(q))
            if leaves and path != top and not self.decide(q.account, store, up(path), right, own):
                return False
        return True

    def held(self, name, store, path):
        """Does the folder that holds this one allow deleting it, which counts there as a file
        would?
        """
        return path == "/" or self.decide(
            name, store, up(path), "delete-folder", self.owns_folder(name, store, path)
        )

    def verdict(self, q, now):
        """(allowed, gate)"""
        if q.endpoint is not None:
            if not self.door(q):
                return False, "door"
            if not self.sign_in(q, now):
                return False, "sign-in"
        if q.action == "sign-in":
            return True, None
        if q.endpoint is not None:
            needs = {"enter"} | {right for right, _ in self.plan(q)[0]}
            if not all(
                self.endpoint_allows(self.endpoint(q.endpoint), q.account, right) for right in needs
            ):
                return False, "endpoint"
        if not self.virtual_path(q):
            return False, "virtual path"
        if not self.folder_gate(q):
            return False, "folder"
        if not room.lets(self, q, q.at or now):
            return False, "limits"
        return True, None

    # 8. Effective access

    def locations(self, name):
        space = self.namespace(name)
        served = {p: there for p, there in space.items() if there}
        found = set(served)
        for path in served:
            found |= set(up_from(path))
        found = {x for x in found if x in served or self.resolve(name, x)[0] == "synthetic"}
        for path, ((store, top), _, _) in served.items():
            for folder in self.stores[store].folders:
                if top in list(up_from(folder.path)):
                    rest = folder.path[len(top) :] if top != "/" else folder.path
                    location = (path.rstrip("/") + "/" + rest.strip("/")).rstrip("/") or "/"
                    if self.resolve(name, location)[3:4] == (path,):
                        found.add(location)
        return found

    def state(self, name, location, right, endpoint=None):
        """yes, own, others or no: no gate from endpoint to folder refuses it."""
        where = self.resolve(name, location)
        if where[0] == "out":
            return "no"
        if endpoint and not all(self.endpoint_allows(endpoint, name, r) for r in ("enter", right)):
            return "no"
        if where[0] == "synthetic":
            return "yes" if right in ("enter", "list") else "no"
        _, store, path, _, top, ceiling = where
        if not has(ceiling, "enter") or not has(ceiling, right):
            return "no"
        if right == "delete-folder" and (
            self.is_path(name, location) or self.above_served(name, location)
        ):
            return "no"
        for at in list(up_from(path))[1 if right == "delete-folder" else 0 :]:
            if not self.may_enter(name, store, at):
                return "no"
            if at == top:
                break
        if right == "delete-folder" and not self.held(name, store, path):
            return "no"
        if right in FOR_FILES:
            own = self.decide(name, store, path, right, True)
            others = self.decide(name, store, path, right, False)
        else:
            own = others = self.decide(
                name, store, path, right, self.owns_folder(name, store, path)
            )
        return {
            (True, True): "yes",
            (True, False): "own",
            (False, True): "others",
            (False, False): "no",
        }[own, others]
