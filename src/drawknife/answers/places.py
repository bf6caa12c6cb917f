"""Questions about places: stores, folders, virtual paths, endpoints."""

from __future__ import annotations

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.limits import sessions_allowed
from drawknife.answers.map_window import alike
from drawknife.core.decide.folder_decision import ENDED, judge
from drawknife.core.everybody.access_map import access_of_all
from drawknife.core.everybody.division import bits_in
from drawknife.core.everybody.listing import subfolders
from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.lines import has_ended
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import Place, ancestors, child, fold, rest_below
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS

#: So many names are told in a line.
SHOWN = 8


class PlaceAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about places."""

    def stores(self) -> msg.StoreList:
        """The stores."""
        return msg.StoreList(
            revision=self.revision,
            stores=[
                msg.StoreLine(
                    name=s.name,
                    root=s.root,
                    baseline=s.baseline,
                    capacity=s.capacity,
                    folders=len(s.folders),
                    entries=sum(len(f.entries) for f in s.folders),
                )
                for s in self.full.model.stores
            ],
        )

    def folder(self, text: str) -> msg.FolderAnswer:
        """One folder of a store, recorded or not, and what lies directly in it."""
        place = self.target(text)
        if isinstance(place, str):
            raise BadInput("place", f"{text!r} names no store", "a folder such as survey:/inbox")
        store = self.full.stores[place.store]
        levels = []
        for up, at in enumerate(ancestors(place.path)):
            f = store.folder(at)
            entries = [
                msg.EntryPartMessage(
                    entry=str(e),
                    fate=ENDED if has_ended(e, self.now.date()) else "",
                    by=None,
                    chain=[],
                    note=e.note,
                )
                for e in (f.entries if f else ())
            ]
            levels.append(
                msg.LevelMessage(
                    place=str(Place(store.name, at)),
                    up=up,
                    sealed=bool(f and f.sealed),
                    recorded=f is not None,
                    owner=f.owner if f else None,
                    entries=entries,
                )
            )
        here, folder = levels[0], store.folder(place.path)
        lines = []
        for name in subfolders(store, place.path):
            at = child(place.path, name)
            f = store.folder(at)
            lines.append(
                msg.FolderLine(
                    name=name,
                    place=str(Place(store.name, at)),
                    recorded=f is not None,
                    sealed=bool(f and f.sealed),
                    owner=f.owner if f else None,
                    entries=len(f.entries) if f else 0,
                )
            )
        leading = [v.path for v in self.full.model.virtual_paths if _may_lead_to(v.leads_to, place)]
        return msg.FolderAnswer(
            revision=self.revision,
            place=here.place,
            recorded=here.recorded,
            sealed=here.sealed,
            owner=here.owner,
            entries=list(map(self.line, folder.entries if folder else ())),
            note=folder.note if folder else None,
            above=levels[1:],
            locations=list(dict.fromkeys(leading)),
            folders=lines,
        )

    def inside(self, text: str) -> msg.InsideAnswer:
        """Everybody who can do something in a folder of a store, those together that can do the
        same.
        """
        place = self.target(text)
        if isinstance(place, str):
            raise BadInput("place", f"{text!r} names no store", "a folder such as survey:/inbox")
        map_ = access_of_all(self.prepared, None, disk=True)
        together: dict[tuple[str, ...], tuple[list[int], list[str]]] = {}
        led: set[int] = set()
        for cell in map_.cells({place.store: [place.path]}):
            for members, states in alike(cell, tuple(range(len(RIGHTS)))):
                led.update(bits_in(members))
                if set(states) != {"no"}:
                    accounts, locations = together.setdefault(states, ([], []))
                    accounts += bits_in(members)
                    locations.append(cell.location)
        people = self.prepared.people.accounts
        rows = [
            msg.InsideLine(
                accounts=[people[i].name for i in sorted(set(accounts))[:SHOWN]],
                account_count=len(set(accounts)),
                locations=list(dict.fromkeys(locations))[:SHOWN],
                rights=dict(zip(RIGHTS, states, strict=True)),
                by=self._giving(place, min(accounts), states),
            )
            for states, (accounts, locations) in together.items()
        ]
        rows.sort(key=lambda row: (-row.account_count, row.accounts))
        some = {i for accounts, _ in together.values() for i in accounts}
        return msg.InsideAnswer(
            revision=self.revision,
            place=str(place),
            rows=rows,
            seeing=len(led - some),
            notes=[*self.area_notes(), *self.disk_notes(stores={place.store})],
        )

    def _giving(self, place: Place, index: int, states: tuple[str, ...]) -> list[str]:
        """The lines by which an account has what it has in a folder."""
        account, store = self.prepared.people.prepared(index), self.prepared.stores[place.store]
        found: dict[str, None] = {}
        for right, state in zip(RIGHTS, states, strict=True):
            if state != "no":
                own = (state == "own") if right in FILE_RIGHTS else None
                why = judge(store, place.path, right, account, own)
                found[
                    (
                        f"{why.decided_by} on {why.decided_at}"
                        if why.decided_by
                        else "the store is open"
                    )
                ] = None
        return list(found)

    def virtual_paths(self) -> msg.VirtualPathList:
        """The virtual paths, in tree order."""
        return msg.VirtualPathList(
            revision=self.revision,
            virtual_paths=[
                msg.VirtualPathLine(
                    path=v.path,
                    leads_to=v.leads_to,
                    listing=v.listing,
                    grants=list(map(self.line, v.grants)),
                    note=v.note,
                )
                for v in self.full.model.virtual_paths
            ],
        )

    def endpoints(self) -> msg.EndpointList:
        """The endpoints, and which of them do not start, and why."""
        lines = []
        asked = self.prepared if self.whole is None else self.whole.prepared
        for e in self.full.model.endpoints:
            clash = self.prepared.stopped_by.get(e.name)
            lines.append(
                msg.EndpointLine(
                    name=e.name,
                    protocol=e.protocol,
                    address=e.address,
                    port=e.port,
                    passive_ports=(
                        f"{e.passive_ports[0]}-{e.passive_ports[1]}" if e.passive_ports else None
                    ),
                    tls=tls_policy(e),
                    host_names=list(e.host_names),
                    enabled=e.enabled,
                    entries=list(map(self.line, e.entries)),
                    note=e.note,
                    never=list(map(str, e.never)),
                    only=None if e.only is None else list(map(str, e.only)),
                    # Ports are for everybody: how many are needed is not a matter of an area.
                    sessions_allowed=sessions_allowed(asked, asked.endpoints[fold(e.name)]),
                    starts=e.enabled and clash is None,
                    clash=clash.text if clash else None,
                    certificate=e.certificate is not None,
                )
            )
        return msg.EndpointList(revision=self.revision, endpoints=lines)


def _may_lead_to(leads_to: str, place: Place) -> bool:
    """Could a virtual path lead somebody to `place` or above it?

    Placeholders may stand for anything.
    """
    store, _, path = leads_to.partition(":")
    fixed = path.partition("{")[0].rstrip("/") or "/"
    return fold(store) == fold(place.store) and rest_below(place.path, fixed) is not None
