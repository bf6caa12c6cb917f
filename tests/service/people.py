"""Several administrators of one service, as the tests meet it."""

import httpx
import pytest

from drawknife.client import Refused


def signed_in(service, name):
    """The token of a session of a person who signed in by a link."""
    with service.client() as owner:
        link = owner.sign_in_link(name)
    with httpx.Client(
        base_url=service.url + "/api/v1", headers={"X-Drawknife-Console": "1"}
    ) as browser:
        assert (
            browser.post("/sessions", json={"token": link.path.partition("#")[2]}).json()["name"]
            == name
        )
        return browser.cookies["drawknife_session"]


def refused(status, call):
    """What is said where a call is refused with a status."""
    with pytest.raises(Refused) as found:
        call()
    assert found.value.problem.status == status, found.value
    return found.value.problem.detail
