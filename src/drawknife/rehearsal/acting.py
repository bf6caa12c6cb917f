"""What somebody who has signed in does: each action asks the core first, and looks at the files
after.

A refusal is raised alike whether the thing is there or not; :class:`NotThere` only where the rules
let it.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import replace

from drawknife.core.everybody.listing import is_shown
from drawknife.core.limits.quotas import uploads_owner
from drawknife.core.words.names import BadValue, Place, base, check_path, child, parent

from .listed import Listed, asked_of
from .outcomes import written_down
from .refusals import BadName, InTheWay, NotThere
from .session_questions import SessionQuestions
from .tree import PART, FileOrFolder
from .writing import Modifying, Writing, move

#: What a location that only leads to virtual paths is to a client.
SYNTHETIC = FileOrFolder(True, 0, 0.0, 0)


class Session(SessionQuestions):
    """One account that has signed in at an endpoint, from an address."""

    # --- where things are ------------------------------------------------------------------------

    def absolute(self, given: str) -> str:
        """The location that a client means. :class:`BadName` for what no location can be."""
        parts: list[str] = (
            [] if given.startswith("/") else [x for x in self.directory.split("/") if x]
        )
        for part in given.split("/"):
            if part == "..":
                del parts[-1:]
            elif part not in ("", "."):
                parts.append(part)
        if any(p.startswith(PART) for p in parts):
            raise BadName(given)
        try:
            return check_path("/" + "/".join(parts))
        except BadValue:
            raise BadName(given) from None

    def place(self, location: str) -> Place | None:
        """The store folder that a location leads to; None: to none, or it only leads to virtual
        paths.
        """
        return self._prepared.namespace(self._account()).resolve(location).place

    def look(self, location: str) -> FileOrFolder | None:
        """What is at a location, whoever may know it.

        A file under the name of a virtual path is hidden.
        """
        space = self._prepared.namespace(self._account())
        at = space.resolve(location)
        if at.synthetic:
            return SYNTHETIC
        if at.place is None:
            return None
        thing = self.scene.tree.look(at.place)
        if space.fixed(location) and (thing is None or not thing.folder):
            return SYNTHETIC
        return thing

    def owner(self, location: str) -> str | None:
        """Whose a file or folder is; None: it is not known."""
        place = self.place(location)
        if place is None:
            return None
        found = self.scene.tree.owners.get(place)
        if found is None and place.store in self._prepared.stores:
            recorded = self._prepared.stores[place.store].folder(place.path)
            found = recorded.owner if recorded is not None else None
        return found

    def _maker(self, location: str) -> str | None:
        """Who made a folder here, in this rehearsal."""
        place = self.place(location)
        return None if place is None else self.scene.tree.folder_owners.get(place)

    def _really(self, location: str) -> Place:
        place = self.place(location)
        if place is None:
            raise NotThere(location)
        return place

    def _thing(self, location: str, folder: bool | None = None) -> FileOrFolder:
        thing = self.look(location)
        if thing is None or (folder is not None and thing.folder is not folder):
            raise NotThere(location)
        return thing

    # --- reading ---------------------------------------------------------------------------------

    @written_down
    def enter(self, location: str) -> None:
        """Go into a folder."""
        self.need("enter", location, owner=self._maker(location))
        self._thing(location, folder=True)

    @written_down
    def list(self, location: str) -> Iterator[Listed]:
        """What the account sees in a folder, looked at as it is asked for."""
        self.need("list", location, owner=self._maker(location))
        self._thing(location, folder=True)
        return self._seen_in(location)

    def _seen_in(self, location: str) -> Iterator[Listed]:
        prepared, account = self._prepared, self._account()
        space = prepared.namespace(account)
        names = {
            base(at) for at in (*space.served, *space.above) if at != "/" and parent(at) == location
        }
        place = self.place(location)
        if (
            place is not None
            and (there := self.scene.tree.look(place)) is not None
            and there.folder
        ):
            names.update(self.scene.tree.names_in(place))
        for name in sorted(names):
            at = child(location, name)
            thing = self.look(at)
            if thing is None:
                continue
            if (
                thing.folder
                and not space.fixed(at)
                and not is_shown(prepared, account, space.resolve(at))
            ):
                continue
            yield Listed(name, at, thing, self.owner(at))

    @written_down
    def see(self, location: str) -> Listed:
        """One file or folder, for whoever sees it in a listing, or may download it, or enter it.

        To all others it is answered as what is not there would be.
        """
        thing, owner = self.look(location), self.owner(location)
        if thing is not None:
            own = ("enter", location, owner) if thing.folder else ("download", location, owner)
            if (
                self._is_told(location, thing, owner)
                or self.ask(own[0], own[1], owner=own[2]).allowed
            ):
                self._looked_at(location, *own)
                return Listed(base(location) or "/", location, thing, owner)
        # Not there, or not to be told of: whoever may list the folder, or download what there might
        # be, is told so.
        above = parent(location)
        if location != "/" and self.ask("list", above, owner=self._maker(above)).allowed:
            self._looked_at(location, "list", above, self._maker(above))
        else:
            self.need("download", location)
        raise NotThere(location)

    def _is_told(self, location: str, thing: FileOrFolder, owner: str | None) -> bool:
        """Is it in a listing of the folder that it is in?"""
        above = parent(location)
        if location == "/" or not self.ask("list", above, owner=self._maker(above)).allowed:
            return False
        return not thing.folder or self._is_shown(location)

    def _is_shown(self, location: str) -> bool:
        space = self._prepared.namespace(self._account())
        return space.fixed(location) or is_shown(
            self._prepared, self._account(), space.resolve(location)
        )

    def _looked_at(self, location: str, action: str, path: str, owner: str | None) -> None:
        """Have it written down that something was looked at: as what was asked for it, with its
        name.
        """
        found = self.ask(action, path, owner=owner)
        if not found.allowed:
            action, path, owner = "list", parent(location), self._maker(parent(location))
            found = self.ask(action, path, owner=owner)
        self.write_down()
        self._waiting = replace(
            self._line(action, path, found, {"owner": owner}), note=f"to look at {location}"
        )

    @written_down
    def download(self, location: str) -> int:
        """A file, opened for reading."""
        self.need("download", location, owner=self.owner(location))
        self._thing(location, folder=False)
        return self.scene.tree.open(self._really(location), os.O_RDONLY)

    def may_read_back(self, location: str) -> None:
        """Ask for reading of a file that is opened for writing, too: of a new one, as of what is
        its own.
        """
        thing = self.look(location)
        self.need(
            "download", location, owner=self._creates() if thing is None else self.owner(location)
        )

    # --- writing ---------------------------------------------------------------------------------

    @written_down
    def write(self, location: str, start: int | None = 0, size: int | None = None) -> Writing:
        """A file to be written: from `start` on, anew (0), or at its end (None).

        `size` is how much is announced.

        At the end of what is there it is appended to; before it, it is overwritten and what was
        there is only replaced when all has come.
        """
        thing, owner = self.look(location), self.owner(location)
        there = thing is not None and not thing.folder
        length = thing.size if thing is not None and there else 0
        if not there and start:
            raise InTheWay(location)
        if not there:
            self.need("upload", location, size=size)
            if thing is not None:
                raise InTheWay(location)
            return Writing(
                self,
                self._really(location),
                location,
                "upload",
                owner=self._creates(),
                start=0,
                length=0,
            )
        if start is None or (start == length and start > 0):
            self.need("append", location, owner=owner, size=size, replaced_size=length)
            return Writing(
                self,
                self._really(location),
                location,
                "append",
                owner=owner,
                start=length,
                length=length,
            )
        whole = size + start if size is not None else None
        self.need(
            "overwrite",
            location,
            owner=owner,
            size=whole,
            replaced_size=length if whole is not None else None,
        )
        return Writing(
            self,
            self._really(location),
            location,
            "overwrite",
            owner=owner,
            start=start,
            length=length,
        )

    @written_down
    def modify(self, location: str) -> Writing:
        """A file that is there, to be written at any offset: before its end that is overwriting,
        after it appending.

        Whoever may neither is refused at once.
        """
        thing, owner = self.look(location), self.owner(location)
        if not self.ask("append", location, owner=owner).allowed:
            self.need("overwrite", location, owner=owner)
        if thing is None or thing.folder:
            self.need("overwrite", location, owner=owner)
            raise NotThere(location)
        return Modifying(
            self,
            self._really(location),
            location,
            "overwrite",
            owner=owner,
            start=thing.size,
            length=thing.size,
        )

    def _creates(self) -> str:
        """The account that owns what this one creates."""
        return uploads_owner(self._prepared, self._account()).name

    @written_down
    def delete(self, location: str) -> None:
        """Delete a file."""
        owner = self.owner(location)
        self.need("delete-file", location, owner=owner)
        thing = self._thing(location, folder=False)
        place = self._really(location)
        self.scene.tree.remove_file(place)
        self.scene.room.count(place, owner, -thing.size, -1)

    @written_down
    def make_folder(self, location: str) -> None:
        """Make a folder."""
        self.need("make-folder", location)
        if self.look(location) is not None:
            raise InTheWay(location)
        place = self._really(location)
        above = self.scene.tree.look(Place(place.store, parent(place.path)))
        if above is None or not above.folder:
            raise NotThere(location)
        self.scene.tree.make_folder(place)
        self.scene.tree.own_folder(place, self._creates())

    @written_down
    def remove_folder(self, location: str) -> None:
        """Delete an empty folder."""
        self.need("delete-folder", location, thing="folder", owner=self.owner(location))
        self._thing(location, folder=True)
        if not self.scene.tree.remove_folder(self._really(location)):
            raise InTheWay(location)

    @written_down
    def rename(self, location: str, to: str, replaces: bool) -> None:
        """Move a file or a folder; a file may replace a file, where it `replaces` at all."""
        thing, there = self.look(location), self.look(to)
        folder = thing is not None and thing.folder
        owner = self.owner(location)
        size, files = (thing.size if thing else 0), 1
        if folder and (place := self.place(location)) is not None:
            every = list(self.scene.tree.files_below(place))
            size, files = sum(s for _, s in every), len(every)
        self.need(
            "rename",
            location,
            to=to,
            thing="folder" if folder else "file",
            owner=owner,
            size=size,
            files=files,
            replaces=there is not None and not there.folder and not folder and replaces,
        )
        self._thing(location)
        one, other = self._really(location), self._really(to)
        if there is not None and (folder or there.folder or not replaces) and one != other:
            raise InTheWay(to)
        above = self.scene.tree.look(Place(other.store, parent(other.path)))
        if above is None or not above.folder:
            raise NotThere(to)
        if one != other:
            move(self.scene, one, other, there)

    @written_down
    def set_changed(self, location: str, at: float) -> None:
        """Set when a file or folder was last changed."""
        thing = self.look(location)
        folder = thing is not None and thing.folder
        self.need(
            "set-attributes",
            location,
            thing="folder" if folder else "file",
            owner=self.owner(location),
        )
        self._thing(location)
        self.scene.tree.set_changed(self._really(location), at)

    def perm(self, seen: Listed, known: dict[tuple[bool, str | None], str] | None = None) -> str:
        """The `perm` fact (RFC 3659, 7.5.5): what this client may do with a file or folder.

        `known` are the facts of other names in the same folder: where nothing is said of a name
        itself, it is the same for all files, and all folders, of one owner.
        """
        key = (seen.thing.folder, seen.owner)
        shared = known is not None and self._is_like_others(seen.location)
        if known is not None and shared and key in known:
            return known[key]
        asked = asked_of(seen, self.account)
        found = "".join(
            letter for letter, action, path, more in asked if self.ask(action, path, **more).allowed
        )
        if known is not None and shared:
            known[key] = found
        return found

    def _is_like_others(self, location: str) -> bool:
        """Says the model nothing of this location itself: no virtual path is there or below, and
        its folder has no line?
        """
        space = self._prepared.namespace(self._account())
        if space.fixed(location) or location in space.unserved:
            return False
        place = space.resolve(location).place
        if place is None or place.store in self._prepared.disks:
            return False
        return place.path not in self._prepared.stores[place.store].marked

    def may_see(self, location: str) -> bool:
        """Is a file to be told of: may its folder be listed, or may it be downloaded?"""
        thing, owner = self.look(location), self.owner(location)
        if thing is None:
            return False
        return (
            self._is_told(location, thing, owner)
            or self.ask("download", location, owner=owner).allowed
        )
