"""Several administrators of one service, as the tests meet it."""

from datetime import UTC, datetime

import httpx
import pytest

from drawknife.client import Refused


def signed_in(service, name):
    """A token that a person made who was signed in by a link."""
    with service.client() as owner:
        link = owner.sign_in_link(name)
    with httpx.Client(base_url=service.url + "/api/v1", headers={"X-Drawknife-Console": "1"}) as browser:
        assert browser.post("/sessions", json={"token": link.path.partition("#")[2]}).json()["name"] == name
        made = browser.post("/tokens", json={"called": f"{name}-{datetime.now(UTC).timestamp()}"})
        return made.json()["token"]


def refused(status, call):
    """What is said where a call is refused with a status."""
    with pytest.raises(Refused) as found:
        call()
    assert found.value.problem.status == status, found.value
    return found.value.problem.detail
