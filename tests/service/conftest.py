"""What the tests of the service share."""

import pytest

from drawknife.client import Client


@pytest.fixture
def as_(own):
    """A client by whom one names; `own` has the tokens."""
    made = []

    def client(name):
        made.append(Client(own.url, own.tokens[name]))
        return made[-1]

    yield client
    for one in made:
        one.close()
