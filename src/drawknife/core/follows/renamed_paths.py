"""Who sees a folder at another location after it was renamed or moved."""

from __future__ import annotations

from collections.abc import Iterator

from ..everybody.access_map import access_of_all
from ..everybody.division import ENTER, bits_in
from ..everybody.findings import Finding
from ..words.names import join, parse_place, rest_below
from ..words.sizes import several
from .pairing import Pairing


def renamed_paths(pairing: Pairing) -> Iterator[Finding]:
    """Yield a finding for each location of a renamed folder that is another for those who can enter
    it.
    """
    before = pairing.before
    map_ = access_of_all(before)
    for renaming in pairing.renames.each:
        if renaming.kind != "folder":
            continue
        old, new = parse_place(renaming.old), parse_place(renaming.new)
        if old.store not in before.stores:
            continue  # it was renamed twice
        for cell in map_.cells({old.store: [old.path]}):
            entering = cell.members & cell.plain[ENTER]
            if cell.segment is None or not entering:
                continue
            top = pairing.renames.place(cell.segment.place)
            rest = rest_below(new.path, top.path) if new.store == top.store else None
            now = None if rest is None else join(cell.segment.path, rest)
            if now != cell.location:
                who = several(
                    before.model.accounts[map_.accounts[bit]].name for bit in bits_in(entering)
                )
                becomes = f"is {now} now" if now is not None else "is no longer seen"
                text = (
                    f"{cell.location} {becomes} by {who}"
                    if now is None
                    else f"{cell.location} {becomes} for {who}"
                )
                yield Finding(
                    "path-renamed",
                    cell.location,
                    f"{text}; tell them, and rename the folder on the disk",
                )
