"""Effective access: what one account can do at every location of its namespace."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ..decide.disk_gate import disk_gate, disk_obstacles
from ..decide.folder_decision import conclude
from ..decide.folders import blocked, can_pass, decide
from ..decide.gates import folder_gate, virtual_path_gate
from ..decide.sign_in import endpoint_gate, verb
from ..model.items import Endpoint
from ..prepared.namespace import Unserved
from ..prepared.needs import demands, locate, owns_folder
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Refusal
from ..words.names import UNRECORDED, Place, child, parent, rest_below, tree_key
from ..words.rights import BIT, ENTER, FILE_RIGHTS, RIGHTS
from .access_map import AccessMap
from .cell import STATES


class Access(NamedTuple):
    """The access at one location. `kind`: ``synthetic``, ``virtual path`` or ``folder``.

    `states` has ``yes``, ``own``, ``others`` or ``no`` for each of the eleven rights.
    """

    location: str
    kind: str
    place: Place | None
    states: tuple[str, ...]


def effective_access(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint | None = None,
    under: str = "/",
    disk: bool = False,
) -> tuple[list[Access], list[Unserved]]:
    """The access at each location at `under` or below it, in tree order, and the paths not served.

    With `disk`, what the disks let through, where they were read.
    """
    rows = []
    map_ = AccessMap(prepared, [account.index], endpoint)
    for cell in (map_.with_disks() if disk else map_).cells():
        if cell.members and rest_below(cell.location, under) is not None:
            plain, owning = cell.plain, cell.owning
            states = tuple(STATES[plain[r] & 1 | (owning[r] & 1) << 1] for r in range(len(RIGHTS)))
            if cell.segment is None:
                kind = "synthetic"
            else:
                kind = "virtual path" if cell.location == cell.segment.path else "folder"
            rows.append(Access(cell.location, kind, cell.place, states))
    rows.sort(key=lambda row: tree_key(row.location))
    closed = sorted(prepared.namespace(account).unserved.values(), key=lambda u: tree_key(u.path))
    return rows, [u for u in closed if rest_below(u.path, under) is not None]


def right_state(
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    right: str,
    endpoint: Endpoint | None = None,
    disk: bool = False,
) -> str:
    """The state of one right at one location, by single decisions: ``yes``, ``own``, ``others`` or
    ``no``.
    """
    plain = (
        next(
            right_obstacles(
                prepared, account, location, right, False, endpoint=endpoint, disk=disk
            ),
            None,
        )
        is None
    )
    if right not in FILE_RIGHTS:
        return "yes" if plain else "no"
    owning = (
        next(
            right_obstacles(prepared, account, location, right, True, endpoint=endpoint, disk=disk),
            None,
        )
        is None
    )
    return STATES[plain | owning << 1]


def held_back_by_holder(
    prepared: Prepared,
    account: PreparedAccount,
    place: Place,
    with_sentences: bool = True,
    right: str = "delete-folder",
) -> Refusal | None:
    """What the folder that holds a folder has against deleting or renaming it; None where it allows
    that, or none holds it.
    """
    if place.path == "/":
        return None
    store, above = prepared.stores[place.store], parent(place.path)
    own = owns_folder(prepared, account, place)
    if decide(store, above, BIT[right], account, own):
        return None
    why = conclude(store, above, right, account, own).text if with_sentences else ""
    done = "delete" if right == "delete-folder" else "rename"
    return Refusal(
        "folder",
        "holder-refuses",
        f"{account.name} may not {done} folders in {store.name}:{above}: {why}",
    )


def state_of_folders_in(
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    endpoint: Endpoint | None = None,
    disk: bool = False,
) -> str:
    """Return whether folders in the one at a location can be deleted, as a state: ``yes``, ``own``,
    ``others`` or ``no``.

    Asked of a folder that is not recorded, as `delete-folder` at the location itself is about that
    folder.
    """
    namespace = prepared.namespace(account)
    states = []
    for owner in (None, account.name):
        question = Question(account.name, "delete-folder", child(location, UNRECORDED), owner=owner)
        sites = locate(namespace, question)
        gates = [
            virtual_path_gate(prepared, account, namespace, question, sites),
            folder_gate(prepared, account, demands(prepared, account, question, sites)),
        ]
        if endpoint is not None:
            gates.append(endpoint_gate(prepared, account, endpoint, ("enter", "delete-folder")))
        if disk and prepared.disks:
            gates.append(disk_gate(prepared, account, question, sites))
        states.append(all(next(gate, None) is None for gate in gates))
    return STATES[states[0] | states[1] << 1]


def right_obstacles(
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    right: str,
    own: bool,
    *,
    endpoint: Endpoint | None = None,
    with_sentences: bool = False,
    disk: bool = False,
    on_folder: bool = False,
) -> Iterator[Refusal]:
    """What keeps a right from being effective at the folder at a location, gate by gate.

    `own`: for the rights on files, whether the file is the account's. `with_sentences`: each with
    its sentence. `disk`: the disk is asked. `on_folder`: the right is one on files, and asked of
    the folder itself: to rename it, or set its attributes.
    """
    is_taken_away = right == "delete-folder" or (on_folder and right == "rename")
    if endpoint is not None:
        yield from endpoint_gate(
            prepared, account, endpoint, tuple(dict.fromkeys(("enter", right)))
        )
    namespace = prepared.namespace(account)
    at = namespace.resolve(location)
    if at.served is None or at.place is None:
        if not at.synthetic or right not in ("enter", "list"):
            why = at.unserved.text if at.unserved else f"{location} is not in its view"
            yield Refusal("virtual path", "out-of-view", f"{account.name}: {why}")
        return
    ceiling = at.served.ceiling
    if not (ceiling & ENTER and ceiling & BIT[right]):
        yield Refusal(
            "virtual path",
            "ceiling-lacks-right",
            f"the grants on {at.served.path} do not let {account.name} {verb(right)}",
        )
    if is_taken_away and namespace.fixed(location):
        yield Refusal(
            "virtual path",
            "fixed-point",
            f"{location} is, or is above, a virtual path of the account",
        )
    store, (_, path) = prepared.stores[at.place.store], at.place
    top = at.served.place.path
    is_itself = is_taken_away or on_folder
    last = path if not is_itself else None if path == top else parent(path)
    if last is not None and not can_pass(store, top, last, account):
        text = ""
        if with_sentences:
            top_blocked = blocked(store, top, last, account)[0].path
            on_the_way = f", on the way to {at.place}" if top_blocked != path else ""
            why = conclude(store, top_blocked, "enter", account, None).text
            text = f"{account.name} may not enter {store.name}:{top_blocked}{on_the_way}: {why}"
        yield Refusal("folder", "cannot-pass", text)
    whose = own if right in FILE_RIGHTS and not on_folder else None
    if not decide(store, path, BIT[right], account, whose):
        why = conclude(store, path, right, account, whose).text if with_sentences else ""
        yield Refusal(
            "folder", "refused", f"{account.name} may not {verb(right)} in {at.place}: {why}"
        )
    if is_taken_away and path != top:
        held = held_back_by_holder(prepared, account, at.place, with_sentences, right)
        if held is not None:
            yield held
    if disk and prepared.disks:
        yield from disk_obstacles(prepared, account, right, at.place, location)
