"""The client: one method for each thing that the service can do.

with Client("http://127.0.0.1:8750", token) as client:
    print(client.access("ines").rows)
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import date
from typing import Any, TypeVar

from pydantic import BaseModel

from drawknife import messages as msg

from .administrators import AdministratorCalls
from .connection import segment
from .credentials import CredentialCalls
from .directories import DirectoryCalls
from .disks import DiskCalls
from .drafts import DraftCalls
from .history import HistoryCalls
from .limits import LimitCalls
from .patterns import PatternCalls
from .rehearsals import RehearsalCalls
from .reports import ReportCalls

T = TypeVar("T", bound=BaseModel)
#: Bytes sent, and bytes in all.
Progress = Callable[[int, int], None]
_PIECE = 1 << 18


#: So many rows are asked for at once.
PAGE = 10_000


class Client(
    CredentialCalls,
    LimitCalls,
    HistoryCalls,
    DraftCalls,
    PatternCalls,
    RehearsalCalls,
    DiskCalls,
    AdministratorCalls,
    DirectoryCalls,
    ReportCalls,
):
    """Everything that a service can do.

    Each method raises :class:`ClientError` or one of its kinds.
    """

    # --- the model -------------------------------------------------------------------------------

    def health(self) -> msg.Health:
        """Is the service well, and which revision does it have? ``GET /health``."""
        return self._get(msg.Health, "/health")

    def load(
        self, document: bytes, progress: Progress | None = None, revision: int | None = None
    ) -> msg.Loaded:
        """Put a model file in force; only if `revision` is the one in force, where it is given.

        ``PUT /model``.
        """
        total = len(document)

        def pieces() -> Iterator[bytes]:
            for start in range(0, total, _PIECE):
                if progress:
                    progress(min(start + _PIECE, total), total)
                yield document[start : start + _PIECE]

        is_json = document.lstrip()[:1] == b"{"
        headers = {
            "Content-Type": "application/json" if is_json else "application/yaml",
            "Content-Length": str(total),
        }
        if revision is not None:
            headers["If-Match"] = f'"{revision}"'
        return self._read(
            msg.Loaded, self._request("PUT", "/model", content=pieces(), headers=headers)
        )

    def dump(self, as_json: bool = False) -> str:
        """The model in force as a model file. ``GET /model``."""
        kind = "application/json" if as_json else "application/yaml"
        return self._request("GET", "/model", headers={"Accept": kind}).text

    def preview_model(self, document: bytes) -> msg.Preview:
        """What putting a model file in force would change. ``POST /model/preview``."""
        return self._read(msg.Preview, self._send("/model/preview", document))

    def losses(self, document: bytes) -> msg.LoadLosses:
        """How many accounts, folders and credentials would go if a model file were put in force.

        ``POST /model/losses``.
        """
        return self._read(msg.LoadLosses, self._send("/model/losses", document))

    # --- changes ---------------------------------------------------------------------------------

    def preview(self, changes: Sequence[dict[str, Any]]) -> msg.Preview:
        """What changes would do; they are written as docs/reference/changes.md has them.

        ``POST /changes/preview``.
        """
        return self._read(
            msg.Preview, self._request("POST", "/changes/preview", json={"changes": list(changes)})
        )

    def check(self, changes: Sequence[dict[str, Any]]) -> msg.Checked:
        """Could the changes be done, and do they look like slips? ``POST /changes/check``."""
        return self._read(
            msg.Checked, self._request("POST", "/changes/check", json={"changes": list(changes)})
        )

    def change(self, changes: Sequence[dict[str, Any]], revision: int | None = None) -> msg.Changed:
        """Do changes, together or not at all; only if `revision` is in force, where it is given.

        ``POST /changes``.
        """
        headers = {} if revision is None else {"If-Match": f'"{revision}"'}
        response = self._request(
            "POST", "/changes", json={"changes": list(changes)}, headers=headers
        )
        return self._read(msg.Changed, response)

    def items(self, kind: str, offset: int = 0, limit: int | None = None) -> msg.ItemList:
        """All items of one kind, as the model file has them. ``GET /items``."""
        return self._get(msg.ItemList, "/items", kind=kind, offset=offset, limit=limit or 200_000)

    def each_item(self, kind: str, page: int = 1000) -> Iterator[msg.NamedItem]:
        """All items of one kind, `page` at a time. ``GET /items``."""
        return self._each(lambda offset: self.items(kind, offset, page), "items")

    def item(self, kind: str, name: str) -> msg.ItemMessage:
        """One item as the model file has it, and what names it. ``GET /item``."""
        return self._get(msg.ItemMessage, "/item", kind=kind, name=name)

    # --- people ----------------------------------------------------------------------------------

    def groups(
        self, matching: str = "", offset: int = 0, limit: int | None = None
    ) -> msg.GroupList:
        """The groups. ``GET /groups``."""
        return self._get(
            msg.GroupList, "/groups", matching=matching, offset=offset, limit=limit or 200_000
        )

    def units(self) -> msg.UnitList:
        """The units, in tree order. ``GET /units``."""
        return self._get(msg.UnitList, "/units")

    def subject(self, subject: str, offset: int = 0, limit: int | None = None) -> msg.SubjectDetail:
        """A group or unit, written group:NAME or unit:PATH. ``GET /subjects``."""
        return self._get(
            msg.SubjectDetail, "/subjects", subject=subject, offset=offset, limit=limit or 200_000
        )

    def ways(self, name: str, group: str | None = None) -> msg.WaysAnswer:
        """Each way in which an account came to be in each group. ``GET /accounts/{name}/ways``."""
        return self._get(msg.WaysAnswer, f"/accounts/{segment(name)}/ways", group=group)

    def without(self, name: str, subject: str) -> msg.LossAnswer:
        """What an account would lose if it were taken out of a group or unit.

        ``GET /accounts/{name}/without``.
        """
        return self._get(msg.LossAnswer, f"/accounts/{segment(name)}/without", subject=subject)

    # --- questions -------------------------------------------------------------------------------

    def accounts(
        self,
        matching: str = "",
        offset: int = 0,
        limit: int | None = None,
        **only: bool | int | str | None,
    ) -> msg.AccountList:
        """Accounts in order of names; `only` as :meth:`drawknife.answers.Answering.accounts` has
        it: expires_within,
        off, locked, no_credential, source.

        ``GET /accounts``.
        """
        window = {"matching": matching, "offset": offset, "limit": limit or 200_000}
        return self._get(
            msg.AccountList,
            "/accounts",
            **window,
            **{k: v for k, v in only.items() if v is not False},
        )

    def host_users(self) -> msg.HostUsers:
        """The users on the host that accounts act as, each with its accounts.

        ``GET /host-users``.
        """
        return self._get(msg.HostUsers, "/host-users")

    def each_account(self, matching: str = "", page: int = 1000) -> Iterator[msg.AccountLine]:
        """All accounts in order of names, `page` at a time. ``GET /accounts``."""
        return self._each(lambda offset: self.accounts(matching, offset, page), "accounts")

    def account_names(self) -> set[str]:
        """The names of the accounts that there are. ``GET /accounts``."""
        return {a.name for a in self.each_account(page=10_000)}

    def account_detail(self, name: str) -> msg.AccountDetail:
        """One account. ``GET /accounts/{name}``."""
        return self._get(msg.AccountDetail, f"/accounts/{segment(name)}")

    def standing(self, name: str) -> msg.StandingAnswer:
        """What an account counts as, and its settings, each with where it comes from.

        ``GET /accounts/{name}/standing``.
        """
        return self._get(msg.StandingAnswer, f"/accounts/{segment(name)}/standing")

    def access(
        self,
        name: str,
        under: str = "/",
        endpoint: str | None = None,
        offset: int = 0,
        *,
        limit: int | None = None,
        folded: bool = False,
        deepest: int | None = None,
        matching: str = "",
    ) -> msg.AccessAnswer:
        """The effective access of an account, in tree order of its locations.

        ``GET /accounts/{name}/access``.

        `folded`: what is as the location above it is only counted there. `deepest`: so many levels
        below at most.
        """
        return self._get(
            msg.AccessAnswer,
            f"/accounts/{segment(name)}/access",
            under=under,
            endpoint=endpoint,
            offset=offset,
            limit=limit or 2_000_000,
            folded=folded or None,
            depth=deepest,
            matching=matching or None,
        )

    def listing(self, name: str, location: str, endpoint: str | None = None) -> msg.ListingAnswer:
        """The folders that an account sees where it lists a location.

        ``GET /accounts/{name}/listing``.
        """
        return self._get(
            msg.ListingAnswer,
            f"/accounts/{segment(name)}/listing",
            location=location,
            endpoint=endpoint,
        )

    def find(self, text: str, most: int = 20) -> msg.NamedAnswer:
        """What has a text in its name, the likeliest first. ``GET /find``."""
        return self._get(msg.NamedAnswer, "/find", text=text, most=most)

    def mend(
        self,
        question: dict[str, Any],
        stop: bool = False,
        most: int = 5,
        until: date | None = None,
        note: str | None = None,
    ) -> msg.MendsAnswer:
        """Find ways to mend a refusal; with `stop`, to refuse what is allowed. ``POST /mends``.

        `until` and `note` are given to the lines that a way adds. Raises :class:`Refused` as a
        decision.
        """
        body = {**question, "stop": stop, "most": most, "until": until and str(until), "note": note}
        return self._read(msg.MendsAnswer, self._request("POST", "/mends", json=body))

    def decide(self, question: dict[str, Any]) -> msg.Answer:
        """The answer to one question, written as docs/reference/questions.md has it.

        ``POST /decisions``.
        """
        return self._read(msg.Answer, self._request("POST", "/decisions", json=question))

    def decide_many(self, questions: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
        """The answers to up to 10,000 questions, as plain data; an error stands in an answer's
        place.

        ``POST /decisions/batch``.
        """
        response = self._request("POST", "/decisions/batch", json={"questions": list(questions)})
        answers: list[dict[str, Any]] = response.json()["answers"]
        return answers

    def who(
        self,
        right: str,
        at: str,
        endpoint: str | None = None,
        but_for: str | None = None,
        *,
        offset: int = 0,
        limit: int | None = None,
    ) -> msg.WhoAnswer:
        """Everybody who has a right at a place, and through what. ``GET /who``."""
        return self._get(
            msg.WhoAnswer,
            "/who",
            right=right,
            at=at,
            endpoint=endpoint,
            but_for=but_for,
            offset=offset,
            limit=limit or 10_000,
        )

    def trials(self) -> msg.TrialList:
        """The trials that are kept, each done. ``GET /trials``."""
        return self._get(msg.TrialList, "/trials")

    def promises(self) -> msg.PromiseList:
        """The promises, and who breaks each. ``GET /promises``."""
        return self._get(msg.PromiseList, "/promises")

    def map(self, **window: Any) -> msg.MapAnswer:
        """A window of the map; `window` as in :class:`drawknife.answers.MapWindow`.

        ``GET /map``.
        """
        return self._get(msg.MapAnswer, "/map", **window)

    def compare(
        self,
        one: str,
        other: str,
        under: str = "/",
        endpoint: str | None = None,
        *,
        offset: int = 0,
        limit: int | None = None,
        folded: bool = False,
    ) -> msg.CompareAnswer:
        """Where two accounts differ, with the reason on each side; `folded` as in :meth:`access`.

        ``GET /comparisons``.
        """

        def page(at: int, most: int) -> msg.CompareAnswer:
            return self._get(
                msg.CompareAnswer,
                "/comparisons",
                one=one,
                other=other,
                under=under,
                endpoint=endpoint,
                offset=at,
                limit=most,
                folded=folded or None,
            )

        found = part = page(offset, limit or PAGE)
        while (
            limit is None and len(part.differences) == PAGE
        ):  # all of them, however many pages that takes
            part = page(offset + len(found.differences), PAGE)
            found = found.model_copy(
                update={"differences": [*found.differences, *part.differences]}
            )
        return found

    def access_rows(
        self,
        name: str,
        under: str = "/",
        endpoint: str | None = None,
        folded: bool = False,
        matching: str = "",
    ) -> Iterator[dict[str, Any]]:
        """The rows of :meth:`access` as plain data, each when it comes.

        ``GET /accounts/{name}/access``, as JSON lines.
        """
        path = f"/accounts/{segment(name)}/access"
        return self._lines(
            path, under=under, endpoint=endpoint, folded=folded or None, matching=matching or None
        )

    def compare_rows(
        self,
        one: str,
        other: str,
        under: str = "/",
        endpoint: str | None = None,
        folded: bool = False,
    ) -> Iterator[dict[str, Any]]:
        """The differences of :meth:`compare` as plain data, each when it comes.

        ``GET /comparisons``, as JSON lines.
        """
        given = {
            "one": one,
            "other": other,
            "under": under,
            "endpoint": endpoint,
            "folded": folded or None,
        }
        return self._lines("/comparisons", **given)

    def compare_model(
        self, account: str, model: str, under: str = "/", endpoint: str | None = None
    ) -> msg.CompareAnswer:
        """Where an account in force differs from itself in a model file. ``POST /comparisons``."""
        body = {"account": account, "model": model, "under": under, "endpoint": endpoint}
        return self._read(msg.CompareAnswer, self._request("POST", "/comparisons", json=body))
