"""The client goes through long lists page by page, and says of each method which route it asks."""

import inspect
import re

import httpx
import pytest
from tools.description import openapi

from drawknife.client import Client, ClientError

#: What is about the connection, and asks nothing by itself.
OF_THE_CONNECTION = ("close", "as_of", "in_draft", "without_disks", "tell_requests")


def test_every_method_says_what_it_returns_and_which_route_it_asks():
    paths = {
        path.removeprefix("/api/v1"): set(methods) for path, methods in openapi()["paths"].items()
    }
    public = [
        m
        for n, m in inspect.getmembers(Client, inspect.isfunction)
        if not n.startswith("_") and n not in OF_THE_CONNECTION
    ]
    assert len(public) > 40
    for method in public:
        named = re.findall(r"``([A-Z]+) ([^`]+)``", method.__doc__ or "")
        assert named, method.__name__
        for verb, path in named:
            assert verb.lower() in paths[path], (method.__name__, verb, path)


def test_iterators_tell_the_same_as_the_whole_lists(service):
    with service.client() as client:
        whole = client.accounts().accounts
        assert list(client.each_account(page=3)) == whole and len(whole) > 10
        assert list(client.each_account("uni", page=1)) == client.accounts("uni").accounts
        assert client.account_names() == {a.name for a in whole}
        for kind in ("group", "folder", "setting"):
            assert list(client.each_item(kind, page=4)) == client.items(kind).items
        assert list(client.each_journal_line(page=1)) == client.journal().lines
        assert list(client.each_account("nobody-like-this")) == []


def test_a_list_that_changes_while_it_is_read_is_not_mixed(service, monkeypatch):
    with service.client() as client:
        real, asked = client.accounts, []

        def changing(*given):
            found = real(*given)
            asked.append(given)
            return (
                found
                if len(asked) == 1
                else found.model_copy(update={"revision": found.revision + 1})
            )

        monkeypatch.setattr(client, "accounts", changing)
        with pytest.raises(ClientError, match="changed from revision 1 to 2 while it was read"):
            list(client.each_account(page=2))


def test_a_model_that_is_known_is_not_sent_again(service):
    headers = {"Authorization": f"Bearer {service.token}"}
    with httpx.Client(base_url=service.url, headers=headers) as http:
        first = http.get("/api/v1/model")
        again = http.get("/api/v1/model", headers={"If-None-Match": first.headers["ETag"]})
        assert (again.status_code, again.content) == (304, b"")
        other = http.get("/api/v1/model", headers={"If-None-Match": '"999"'})
        assert other.status_code == 200 and other.text == first.text
        # What may change with the time alone is sent each time.
        accounts = http.get("/api/v1/accounts")
        assert (
            http.get(
                "/api/v1/accounts", headers={"If-None-Match": accounts.headers["ETag"]}
            ).status_code
            == 200
        )
