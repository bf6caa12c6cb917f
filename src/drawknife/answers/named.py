"""Finding anything of the model by a part of its name."""

from __future__ import annotations

from collections.abc import Iterator
from heapq import nsmallest

from drawknife import messages as msg
from drawknife.answers.asked import Asked
from drawknife.core.words.names import fold


class NameAnswers(Asked):
    """The part of :class:`drawknife.answers.Answering` that finds names."""

    def find(self, text: str, most: int = 20) -> msg.NamedAnswer:
        """What has a text in its name, case aside: what is called so first, then what begins so, or
        a part of its path does.
        """
        wanted = fold(text.strip())
        found = [
            (rank, len(name), name, kind, also)
            for kind, name, also in self._named()
            if wanted and (rank := _rank(wanted, fold(name), fold(also))) is not None
        ]
        return msg.NamedAnswer(
            revision=self.revision,
            total=len(found),
            found=[
                msg.Named(kind=kind, name=name, also=also)
                for _, _, name, kind, also in nsmallest(most, found)
            ],
        )

    def _named(self) -> Iterator[tuple[str, str, str]]:
        model = self.full.model
        yield from (("account", a.name, a.display or "") for a in model.accounts)
        yield from (("group", g.name, "") for g in model.groups)
        yield from (("unit", path, "") for path in model.units)
        yield from (("endpoint", e.name, "") for e in model.endpoints)
        yield from (("virtual-path", v.path, v.leads_to) for v in model.virtual_paths)
        yield from (("promise", p.name, "") for p in model.promises)
        yield from (("trial", t.name, "") for t in model.trials)
        for store in model.stores:
            yield "store", store.name, ""
            yield from (
                ("folder", f"{store.name}:{f.path}", "") for f in store.folders if f.path != "/"
            )


def _rank(wanted: str, name: str, also: str) -> int | None:
    last = name[max(name.rfind("/"), name.rfind(":")) + 1 :]
    if wanted in (name, last):
        return 0
    if name.startswith(wanted) or last.startswith(wanted):
        return 1
    return 2 if wanted in name else 3 if also and wanted in also else None
