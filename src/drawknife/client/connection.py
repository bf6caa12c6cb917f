"""A connection to one service: requests, answers read as messages, and what goes wrong
on the way.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from copy import copy
from time import monotonic
from types import TracebackType
from typing import Any, Protocol, Self, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel, ValidationError

from drawknife import messages as msg

from .errors import ClientError, Refused, ServiceUnavailable

T = TypeVar("T", bound=BaseModel)


#: What is asked by other methods than GET.
_ASKING = ("/decisions", "/decisions/batch", "/comparisons", "/mends")
_ASKING_IN_DRAFTS = (*_ASKING, "/changes/preview", "/changes/check")
_PATTERN = re.compile(r"/patterns/[^/]+/changes")


class PartOfList(Protocol):
    """A part of a list, which tells how long it is in all."""

    @property
    def total(self) -> int: ...


class Connection:
    """A connection to one service, with a token. `timeout` in seconds."""

    def __init__(self, url: str, token: str, timeout: float = 600) -> None:
        self.url = url.rstrip("/")
        self._of_another: dict[str, str] = {}
        # Reading what certificates are trusted takes a tenth of a small question: only where there
        # is one to check. A redirect is not followed, so a plain connection stays one.
        encrypted = not self.url.lower().startswith("http://")
        self._http = httpx.Client(
            base_url=self.url + "/api/v1",
            headers={"Authorization": f"Bearer {token}"},
            timeout=httpx.Timeout(timeout, connect=5),
            transport=httpx.HTTPTransport(
                verify=encrypted, retries=1
            ),  # of connecting only: nothing is asked twice
        )

    def tell_requests(self, tell: Callable[[str], None]) -> None:
        """Tell each request when it is answered, in a line: what was asked, the status, and how
        long it took.
        """

        def asked(request: httpx.Request) -> None:
            request.extensions["drawknife.began"] = monotonic()

        def answered(response: httpx.Response) -> None:
            request = response.request
            took = (monotonic() - request.extensions["drawknife.began"]) * 1000
            tell(f"{request.method} {request.url.path}: {response.status_code} in {took:.0f} ms")

        self._http.event_hooks = {"request": [asked], "response": [answered]}

    def as_of(self, text: str) -> Self:
        """The same connection, asking of a model of the past: of a revision, or as of a time that
        has been.

        Nothing can be changed with it: :class:`ClientError`. What is kept beside the model, such as
        credentials and the journal, is not of the past: :class:`Refused`.
        """
        past = copy(self)
        past._of_another = {"as_of": text}
        return past

    def in_draft(self, name: str) -> Self:
        """The same connection, asking of the model as it would be with a draft applied; as
        :meth:`as_of` otherwise.
        """
        drafted = copy(self)
        drafted._of_another = {"draft": name}
        return drafted

    def without_disks(self) -> Self:
        """The same connection, asking as if no disk had been read."""
        found = copy(self)
        found._of_another = {**self._of_another, "without_disk": "true"}
        return found

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def _request(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        self._towards_another(method, path, arguments)
        with self._in_our_errors(method):
            response = self._http.request(method, path, **arguments)
        return self._checked(response)

    def _lines(self, path: str, **query: Any) -> Iterator[Any]:
        """The rows of an answer as plain data, each read when it is asked for."""
        arguments: dict[str, Any] = {
            "params": {name: value for name, value in query.items() if value is not None}
        }
        self._towards_another("GET", path, arguments)
        headers = {"Accept": "application/x-ndjson"}
        with (
            self._in_our_errors("GET"),
            self._http.stream("GET", path, headers=headers, **arguments) as response,
        ):
            if not response.is_success:
                response.read()
            for line in self._checked(response).iter_lines():
                yield json.loads(line)

    def _towards_another(self, method: str, path: str, arguments: dict[str, Any]) -> None:
        """Ask of the past, of a draft, or without disks, where that is wanted and can be."""
        if self._of_another:
            past = "draft" not in self._of_another
            asked = path in (_ASKING if past else _ASKING_IN_DRAFTS)
            if method != "GET" and not asked and _PATTERN.fullmatch(path) is None:
                raise ClientError(
                    "the past can be asked of, and not changed; `back-to` takes the model back"
                    " to it"
                    if "as_of" in self._of_another
                    else (
                        "this is not asked of a draft"
                        if not past
                        else "without disks things are asked, and not changed"
                    )
                )
            arguments["params"] = {**(arguments.get("params") or {}), **self._of_another}

    @contextmanager
    def _in_our_errors(self, method: str) -> Iterator[None]:
        """What goes wrong on the way, in plain words."""
        try:
            yield
        except httpx.ConnectError:
            raise ServiceUnavailable(
                f"no service answers at {self.url}; is it running? start one with `drawknife serve`"
            ) from None
        except httpx.TimeoutException:
            raise ServiceUnavailable(
                f"the service at {self.url} does not answer in time{_perhaps(method)}"
            ) from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise ClientError(
                f"asking the service at {self.url} failed: {error}{_perhaps(method)}"
            ) from None

    def _checked(self, response: httpx.Response) -> httpx.Response:
        if response.is_success:
            return response
        try:
            problem = msg.Problem.model_validate_json(response.content)
        except ValidationError:
            raise ClientError(
                f"{self.url} answers {response.status_code}, and not as Drawknife does"
            ) from None
        if response.status_code == 503:
            raise ServiceUnavailable(problem.detail)
        raise Refused(problem)

    def _get(self, kind: type[T], path: str, /, **query: Any) -> T:
        given = {name: value for name, value in query.items() if value is not None}
        response = self._request("GET", path, params=given)
        return self._read(kind, response)

    def _read(self, kind: type[T], response: httpx.Response) -> T:
        try:
            return kind.model_validate_json(response.content)
        except ValidationError:
            raise ClientError(
                f"{self.url} answers, but not as this version of Drawknife does"
            ) from None

    def _each(self, page: Callable[[int], PartOfList], rows: str) -> Iterator[Any]:
        """The rows of a list, page by page; :class:`ClientError` if another revision comes in
        between.
        """
        offset, revision = 0, None
        while True:
            found = page(offset)
            now = getattr(found, "revision", None)
            if revision is not None and now != revision:
                raise ClientError(
                    f"the model changed from revision {revision} to {now} while it was read; begin"
                    " again"
                )
            revision = now
            some = getattr(found, rows)
            yield from some
            offset += len(some)
            if not some or offset >= found.total:
                return

    def _send(self, path: str, document: bytes) -> httpx.Response:
        is_json = document.lstrip()[:1] == b"{"
        headers = {"Content-Type": "application/json" if is_json else "application/yaml"}
        return self._request("POST", path, content=document, headers=headers)


def _perhaps(method: str) -> str:
    """What has to be said where the answer to a change was lost."""
    return (
        ""
        if method == "GET"
        else "; what was asked for may have been done all the same: `drawknife journal` tells"
    )


def segment(name: str) -> str:
    """A name as one part of an address."""
    return quote(name, safe="")
