"""From entries to people, groups and units: what a directory says, before it meets the model."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, field

from drawknife.core.model.items import Subject
from drawknife.core.words.names import (
    BadValue,
    Place,
    check_name,
    check_path,
    check_subject_name,
    fold,
)
from drawknife.core.words.plain import one_line
from drawknife.core.words.sizes import number_of
from drawknife.formats.ldif import Record
from drawknife.messages import DirectoryOptions

from .dn import normal, parent_dn
from .login_names import attributes_in, login_name
from .source import DirectorySource
from .sync_notes import Notes


@dataclass(frozen=True, slots=True)
class Person:
    name: str
    display: str | None
    mail: str | None
    unit: str | None
    home: Place | None
    #: What the directory knows it by, whatever it is called.
    id: str | None = None
    enabled: bool = True


@dataclass(slots=True)
class DirectoryContents:
    """What a directory has.

    Group members are subjects; the sets of names are by comparison form.
    """

    people: dict[str, Person] = field(default_factory=dict)
    groups: dict[str, set[Subject]] = field(default_factory=dict)
    units: set[str] = field(default_factory=set)
    left_out: list[str] = field(default_factory=list)
    notes: Notes = field(default_factory=Notes)
    #: What the directory knows groups and units by, by their names in comparison form.
    group_ids: dict[str, str] = field(default_factory=dict)
    unit_ids: dict[str, str] = field(default_factory=dict)


class _Reader:
    def __init__(self, options: DirectoryOptions) -> None:
        self.options = options
        self.found = DirectoryContents()
        #: What each entry became, by its name in normal form.
        self.subject_of: dict[str, Subject] = {}
        self.unit_of: dict[str, str] = {}
        self.uid_of: dict[str, str] = {}
        self.unknown_members = 0
        self.spelled: dict[str, str] = {}
        self.known: set[str] = set()

    # --- units -----------------------------------------------------------------------------------

    def units(self, records: Iterator[Record]) -> None:
        attribute = self.options.unit_name_attribute.lower()
        taken: set[str] = set()
        entries = {normal(r.dn): (r, self._first(r, attribute)) for r in records}
        for dn in sorted(entries, key=lambda d: (d.count(","), d)):
            record, name = entries[dn]
            shown = record.dn
            above = self._unit_above(dn)
            if name is None:
                self.found.left_out.append(f"unit {shown}: it has no {attribute}")
                continue
            try:
                segment = self._fitting(name + ("" if above else self.options.suffix), shown)
            except BadValue as bad:
                self.found.left_out.append(f"unit {shown}: {bad}")
                continue
            path = f"{above}/{segment}" if above else segment
            if fold(path) in taken:
                self.found.left_out.append(f"unit {shown}: there is another unit {path}")
                continue
            self.found.units.add(path)
            if (known_by := self._known_by(record)) is not None:
                self.found.unit_ids[fold(path)] = known_by
            taken.add(fold(path))
            self.unit_of[dn] = path
            self.subject_of[dn] = Subject("unit", path)

    def _unit_above(self, dn: str) -> str | None:
        at = parent_dn(dn)
        while at:
            if at in self.unit_of:
                return self.unit_of[at]
            at = parent_dn(at)
        return None

    # --- people ----------------------------------------------------------------------------------

    def people(self, records: Iterator[Record]) -> list[tuple[Subject, list[bytes]]]:
        """Take the people; returns what each says of the groups that it is in."""
        o = self.options
        displays = [a.strip().lower() for a in o.display_attribute.split(",") if a.strip()]
        member_of = (o.member_of_attribute or "").lower()
        said: list[tuple[Subject, list[bytes]]] = []
        unit_of_parent: dict[str, str | None] = {}
        for record in records:
            dn = normal(record.dn)
            if dn in self.subject_of:  # an alias of somebody
                continue
            name = self._first(record, o.name_attribute.lower())
            if name is None:
                self.found.left_out.append(f"{record.dn}: it has no {o.name_attribute}")
                continue
            try:
                called = check_name(self._login_name(record, name) + o.suffix)
                if fold(called) == "anonymous":
                    raise BadValue("the name is that of the anonymous account")
            except BadValue as bad:
                self.found.left_out.append(f"{record.dn}: {bad}")
                continue
            key = fold(called)
            if key in self.found.people:
                self.found.left_out.append(f"{record.dn}: there is another {called}")
                continue
            above = parent_dn(dn)
            if above not in unit_of_parent:
                unit_of_parent[above] = self._unit_above(dn)
            display = (
                one_line(next(filter(None, (self._first(record, d) for d in displays)), "")) or None
            )
            mail = one_line(self._first(record, o.mail_attribute.lower()) or "") or None
            self.found.people[key] = Person(
                called,
                display,
                mail,
                unit_of_parent[above],
                self._home(record, called),
                self._known_by(record),
            )
            subject = Subject("account", called)
            self.subject_of[dn] = subject
            self.uid_of[fold(unicodedata.normalize("NFC", name))] = called
            if member_of and member_of in record.attributes:
                said.append((subject, record.attributes[member_of]))
        return said

    def _login_name(self, record: Record, name: str) -> str:
        if self.options.login_name is None:
            return unicodedata.normalize("NFC", name)
        return login_name(
            self.options.login_name, lambda attribute: self._first(record, attribute.lower())
        )

    def _home(self, record: Record, called: str) -> Place | None:
        o = self.options
        value = self._first(record, o.home_attribute.lower()) if o.home_attribute else None
        if value is None or o.home_store is None:
            return None
        if o.home_strip and value.startswith(o.home_strip):
            value = value[len(o.home_strip) :]
        try:
            return Place(o.home_store, check_path("/" + value.strip("/")))
        except BadValue as bad:
            self.found.notes.say("home-left-out", f"the home of {called} was skipped: {bad}")
            return None

    # --- groups ----------------------------------------------------------------------------------

    def groups(self, records: Iterator[Record]) -> None:
        o = self.options
        attributes = [a.strip().lower() for a in o.member_attributes.split(",") if a.strip()]
        entries: list[tuple[str, list[tuple[str, list[bytes]]]]] = []
        for record in records:
            name = self._first(record, o.group_name_attribute.lower())
            if name is None:
                self.found.left_out.append(f"group {record.dn}: it has no {o.group_name_attribute}")
                continue
            try:
                called = check_subject_name(self._fitting(name + o.suffix, record.dn))
            except BadValue as bad:
                self.found.left_out.append(f"group {record.dn}: {bad}")
                continue
            if fold(called) in self.spelled:
                self.found.left_out.append(f"group {record.dn}: there is another {called}")
                continue
            self.spelled[fold(called)] = called
            if (known_by := self._known_by(record)) is not None:
                self.found.group_ids[fold(called)] = known_by
            self.subject_of[normal(record.dn)] = Subject("group", called)
            entries.append(
                (called, [(a, record.attributes[a]) for a in attributes if a in record.attributes])
            )
        for called, lists in entries:
            members = self.found.groups[called] = set()
            for attribute, values in lists:
                for value in values:
                    member = self._member(attribute, value)
                    if member is None:
                        self.unknown_members += 1
                    elif member != Subject("group", called):
                        members.add(member)

    def _member(self, attribute: str, value: bytes) -> Subject | None:
        try:
            text = value.decode()
        except UnicodeDecodeError:
            return None
        if attribute == "memberuid":
            called = self.uid_of.get(fold(unicodedata.normalize("NFC", text)))
            return Subject("account", called) if called else None
        if attribute == "uniquemember" and "#" in text:
            # RFC 4517, section 3.3.21: a name may be followed by a number that keeps it unique.
            text = text.rpartition("#")[0] if text.endswith("B") else text
        return self.subject_of.get(normal(text))

    def member_of(self, said: list[tuple[Subject, list[bytes]]]) -> None:
        for subject, values in said:
            for value in values:
                group = self.subject_of.get(normal(value.decode("utf-8", "replace")))
                if group is not None and group.kind == "group":
                    self.found.groups[group.name].add(subject)

    # --- values ----------------------------------------------------------------------------------

    def _first(self, record: Record, attribute: str) -> str | None:
        for value in record.attributes.get(attribute, ()):
            try:
                text = unicodedata.normalize("NFC", value.decode()).strip()
            except UnicodeDecodeError:
                continue
            if text and "\x00" not in text:
                return text
        return None

    def _known_by(self, record: Record) -> str | None:
        """What a record is known by for good: text as it is, and bytes that are none as hexadecimal
        digits.
        """
        attribute = (self.options.id_attribute or "").lower()
        raw = next(iter(record.attributes.get(attribute, ())), b"")
        if not raw:
            return None
        made = (
            raw.decode("ascii")
            if raw.isascii() and raw.decode("ascii").isprintable()
            else raw.hex()
        )
        if made in self.known:
            self.found.notes.say(
                "not-followed",
                f"{record.dn} has the {self.options.id_attribute} of another entry, so a rename of"
                " it is not followed",
            )
            return None
        self.known.add(made)
        return made

    def _fitting(self, name: str, dn: str) -> str:
        """A name for a group or unit: what no name may hold becomes ``-``, and that is told."""
        made = fitting(name)
        if made != name:
            self.found.notes.say("respelled", f"{name!r} is spelled {made} here ({dn})")
        return made


def fitting(name: str) -> str:
    """A name for a group or unit: what no name may hold becomes ``-``.

    :class:`BadValue` if there is nothing left.
    """
    made = "".join(
        "-" if c in "/\\:{},*" or c.isspace() or unicodedata.category(c) == "Cc" else c
        for c in name
    )
    return check_subject_name(made)


def read(source: DirectorySource, options: DirectoryOptions) -> DirectoryContents:
    """Everything that a directory has of people, groups and units.

    DirectoryFailed if not all can be had.
    """
    reader = _Reader(options)
    known = list(filter(None, [options.id_attribute]))
    if options.units_base:
        reader.units(
            source.search(
                options.units_base, options.units_filter, [options.unit_name_attribute, *known]
            )
        )
    wanted = [options.name_attribute, *options.display_attribute.split(","), options.mail_attribute]
    wanted += [a for a in (options.home_attribute, options.member_of_attribute) if a] + known
    wanted += attributes_in(options.login_name or "")
    said = reader.people(
        source.search(options.people_base, options.people_filter, [a.strip() for a in wanted])
    )
    if options.groups_base:
        attributes = [
            options.group_name_attribute,
            *known,
            *(a.strip() for a in options.member_attributes.split(",")),
        ]
        reader.groups(source.search(options.groups_base, options.groups_filter, attributes))
        reader.member_of(said)
    for url in dict.fromkeys(source.referrals):
        reader.found.notes.say(
            "referrals",
            f"the referral to {one_line(url)} was not followed. Add its server to referral_servers"
            " to follow it",
        )
    if reader.unknown_members:
        reader.found.notes.say(
            "members-left-out",
            f"{number_of(reader.unknown_members, 'member')} of groups skipped: not among the"
            " people, groups and units of the directory",
        )
    return reader.found
