"""Questions about disks: what was read, and where a disk says something else than the model."""

from __future__ import annotations

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.answers.plan_words import differences, plan_notes, reasons
from drawknife.core.decide.disk_gate import taken_on
from drawknife.core.disk.read_folders import Disk
from drawknife.core.everybody.adopting import adopt
from drawknife.core.everybody.described_drift import described_drift
from drawknife.core.everybody.describing import adopt_described, describe
from drawknife.core.everybody.disk_plan import DiskPlan
from drawknife.core.everybody.drift import Drift, drift
from drawknife.core.everybody.planned_disk import Opened
from drawknife.core.model.items import DescriptorReading
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of, several

#: So many lines are told where nothing else is said.
TOLD = 500
#: So many accounts times folders are planned, or taken over, at once.
MOST_AT_ONCE = 200_000


class DiskAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about disks."""

    def disks(self) -> msg.DiskList:
        """What was read of the disks of stores."""
        return msg.DiskList(
            revision=self.revision,
            disks=[
                msg.DiskLine(
                    store=r.store,
                    taken=r.taken,
                    confined=r.confined,
                    folders=len(r.folders),
                    files=sum(x.number for x in r.files),
                    users=len(r.users),
                    odd=r.odd,
                    windows=False,
                    notes=list(r.notes),
                )
                for r in self.full.model.disk_readings
            ]
            + [
                msg.DiskLine(
                    store=r.store,
                    taken=r.taken,
                    confined=False,
                    folders=len(r.folders),
                    files=0,
                    users=len(r.names),
                    odd=0,
                    windows=True,
                    form="NFSv4 lists" if _is_nfs4(r) else "Windows tree",
                    notes=list(r.notes),
                )
                for r in self.full.model.descriptor_readings
            ],
        )

    def _windows(self, store: str) -> DescriptorReading | None:
        """The descriptors of a store, if those were read and no disk was."""
        if any(fold(name) == fold(store) for name in self.prepared.disks):
            return None
        return next(
            (r for r in self.prepared.model.descriptor_readings if fold(r.store) == fold(store)),
            None,
        )

    def _disk(self, store: str) -> Disk:
        if self._windows(store) is not None:
            remedy = (
                "what is about descriptors: `disk compare`, `disk adopt` and `disk descriptors`"
            )
            raise BadInput(
                "store", f"{store} has descriptors or NFSv4 lists, not POSIX lists", remedy
            )
        disk = next(
            (d for name, d in self.prepared.disks.items() if fold(name) == fold(store)), None
        )
        if disk is None:
            raise self._not_read(store, "disk", "")
        return disk

    def _not_read(self, store: str, what: str, how: str) -> BadInput | NotFound:
        """The error where nothing was read of a store, or there is none of that name."""
        there = next((name for name in self.prepared.stores if fold(name) == fold(store)), None)
        if there is None:
            return NotFound("store", store, list(self.prepared.stores), "store")
        remedy = f"`drawknife disk read {there}{how}`" + ("" if how else ", where it is")
        return BadInput(
            "store", f"the {what} of {there} {'was' if what == 'disk' else 'were'} not read", remedy
        )

    def _check_size(self, store: str) -> None:
        """:class:`BadInput` where a plan, or taking over, would take longer than anybody waits."""
        disk = self.prepared.disks[store]
        paths = {f.path for f in disk.reading.folders} | {f.path for f in disk.reading.files}
        paths |= {f.path for f in self.prepared.stores[store].store.folders}
        people = self.prepared.people
        acting = sum(
            taken_on(self.prepared, people.prepared(i), store) is not None
            for i in range(len(people.accounts))
        )
        if acting * len(paths) > MOST_AT_ONCE:
            too_many = (
                f"{number_of(acting, 'account')} by {number_of(len(paths), 'folder')} are too many"
                " to be worked out at once"
            )
            raise BadInput(
                "store",
                too_many,
                f"{MOST_AT_ONCE:,} at most: acts_as set for fewer accounts, some at a time",
            )

    def disk_plan(self, store: str) -> msg.PlanAnswer:
        """What makes the disk of a store say what the model says, and what its lists cannot say."""
        disk = self._disk(store)
        name = disk.reading.store
        self._check_size(name)
        plan = DiskPlan(self.prepared, name).plan()
        return msg.PlanAnswer(
            revision=self.revision,
            store=name,
            root=self.prepared.stores[name].store.root,
            taken=disk.reading.taken,
            steps=[
                msg.PlanStepMessage(
                    path=x.path,
                    what=x.what,
                    number=x.number,
                    perhaps=x.perhaps,
                    now=str(x.now),
                    planned=str(x.planned),
                    but=list(x.but),
                    lines=differences(x.now, x.planned, disk),
                )
                for x in plan.steps
            ],
            not_said=_not_said(plan.not_said, True),
            made=[msg.MadeMessage(place=f"{name}:{path}", text=text) for path, text in plan.made],
            notes=plan_notes(plan),
            opened=[_opened(x, disk) for x in plan.opened],
            private=[_opened(x, disk) for x in plan.private],
        )

    def adopt(self, store: str) -> msg.AdoptAnswer:
        """The folders, owners, seals and entries that say what the disk of a store says, as
        changes.
        """
        windows = self._windows(store)
        name = self._disk(store).reading.store if windows is None else windows.store
        if windows is None:
            self._check_size(name)
        try:
            found = (
                adopt(self.full, name) if windows is None else adopt_described(self.full, windows)
            )
        except ValueError as error:
            raise BadInput(
                "store",
                str(error),
                "acts_as of somebody, such as `setting change anyone --acts-as {account}`",
            ) from None
        notes = []
        if found.nobody:
            who = (
                "users of the machine that no account acts as"
                if windows is None
                else "identifiers that stand for nobody here"
            )
            notes.append(f"{who}, who are left out: {several(found.nobody, 5)}")
        if found.left_out:
            notes.append(
                "what lines say to those of whom nothing is known is kept; but what is sealed now,"
                " they get no more from above"
            )
        return msg.AdoptAnswer(
            revision=self.revision,
            store=name,
            folders=sum(bool(f.entries) for f in found.folders),
            changes=list(found.changes),
            not_said=_not_said(found.not_said, False),
            notes=[*notes, *(f"not checked: {x}" for x in found.left_out)],
        )

    def descriptors(self, store: str) -> msg.DescriptorsAnswer:
        """The security descriptors that say what the model says of a store whose Windows tree was
        read.
        """
        windows = self._windows(store)
        if windows is None:
            raise self._not_read(store, "descriptors", " --descriptors FILE --names FILE")
        if _is_nfs4(windows):
            raise BadInput(
                "store",
                f"{store} has NFSv4 lists, which are not written",
                "`disk compare` and `disk adopt`",
            )
        found = describe(self.prepared, windows)
        rows = [
            msg.DescriptorLine(path=f.path, owner=f.descriptor.owner, descriptor=f.text)
            for f in found.folders
        ]
        return msg.DescriptorsAnswer(
            revision=self.revision,
            store=windows.store,
            rows=rows,
            not_said=_not_said(found.not_said, False),
            notes=list(found.notes),
        )

    def drift(self, store: str, account: str | None = None, most: int = TOLD) -> msg.DriftAnswer:
        """Where the server and the disk of a store do not say the same, for all accounts or for
        one.
        """
        windows = self._windows(store)
        only = None if account is None else [self.account(account).name]
        if windows is None:
            name, taken = (reading := self._disk(store).reading).store, reading.taken
            found = drift(self.prepared, name, only)
        else:
            name, taken = windows.store, windows.taken
            found = described_drift(self.prepared, windows, only)
        rows = [
            msg.DriftLine(
                account=x.account,
                acts_as=x.acts_as,
                location=x.location,
                place=str(x.place),
                refused=list(x.refused),
                wider=list(x.wider),
                reason=x.reason,
                server=x.server,
                below=x.below,
                partly=_partly(x),
            )
            for x in found.rows[:most]
        ]
        left = list(found.left_out)
        if len(found.rows) > most:
            left.append(
                f"{len(found.rows) - most:,} more lines are not listed: ask for one account, or for"
                " more lines"
            )
        return msg.DriftAnswer(
            revision=self.revision,
            store=name,
            taken=taken,
            accounts=found.accounts,
            folders=found.folders,
            total=len(found.rows),
            rows=rows,
            left_out=left,
            owners=[
                f"{name} owns {number_of(folders, 'folder')} and {number_of(files, 'file')}"
                for name, folders, files in found.owners
            ],
        )


def _is_nfs4(reading: DescriptorReading) -> bool:
    return any(folder.is_nfs4 for folder in reading.folders)


def _partly(row: Drift) -> list[msg.PartlyMessage]:
    return [msg.PartlyMessage(**x._asdict()) for x in row.partly]


def _opened(x: Opened, disk: Disk) -> msg.OpenedMessage:
    lists = f" {x.thing.acl}" if x.thing.acl is not None else ""
    return msg.OpenedMessage(
        place=f"{disk.reading.store}:{x.path}",
        number=x.number,
        thing=disk.in_words(x.thing) + lists,
        read=list(x.read),
        write=list(x.write),
    )


def _not_said(rows: tuple[Drift, ...], planned: bool) -> list[msg.NotSaid]:
    return [
        msg.NotSaid(
            account=x.account,
            acts_as=x.acts_as,
            location=x.location,
            place=str(x.place),
            refused=list(x.refused),
            wider=list(x.wider),
            below=x.below,
            partly=_partly(x),
            reasons=reasons(x) if planned else [x.reason] if x.reason else [],
        )
        for x in rows
    ]
