"""Questions about disks: what was read, and where a disk says something else than the model."""

from __future__ import annotations

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.core.everybody.drift import drift
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import fold

#: So many lines are told where nothing else is said.
TOLD = 500


class DiskAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that is about disks."""

    def disks(self) -> msg.DiskList:
        """What was read of the disks of stores."""
        return msg.DiskList(
            revision=self.revision,
            disks=[
                msg.DiskLine(
                    store=r.store, taken=r.taken, confined=r.confined, folders=len(r.folders),
                    files=sum(x.number for x in r.files), users=len(r.users), odd=r.odd, notes=list(r.notes),
                )
                for r in self.full.model.disk_readings
            ],
        )  # fmt: skip

    def drift(self, store: str, account: str | None = None, most: int = TOLD) -> msg.DriftAnswer:
        """Where the server and the disk of a store do not say the same, for all accounts or for one."""
        disk = next((d for name, d in self.prepared.disks.items() if fold(name) == fold(store)), None)
        if disk is None:
            there = next((name for name in self.prepared.stores if fold(name) == fold(store)), None)
            if there is None:
                raise NotFound("store", store, list(self.prepared.stores), "store")
            remedy = f"`drawknife disk read {there}`, where it is"
            raise BadInput("store", f"the disk of {there} was not read", remedy)
        only = None if account is None else [self.account(account).name]
        found = drift(self.prepared, disk.reading.store, only)
        rows = [
            msg.DriftLine(
                account=x.account, acts_as=x.acts_as, location=x.location, place=str(x.place), refused=list(x.refused),
                wider=list(x.wider), reason=x.reason, below=x.below,
            )
            for x in found.rows[:most]
        ]  # fmt: skip
        left = list(found.left_out)
        if len(found.rows) > most:
            left.append(f"{len(found.rows) - most:,} more lines are not listed: ask for one account, or for more lines")
        return msg.DriftAnswer(
            revision=self.revision, store=disk.reading.store, taken=disk.reading.taken, accounts=found.accounts,
            folders=found.folders, total=len(found.rows), rows=rows, left_out=left,
        )  # fmt: skip
