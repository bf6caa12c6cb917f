"""What is kept is tried here with passwords that are hashed quickly: how well they are hashed is
looked at elsewhere.
"""

import pytest
from argon2 import PasswordHasher

from drawknife.records import credentials


@pytest.fixture(autouse=True)
def quick_hashes(monkeypatch):
    monkeypatch.setattr(
        credentials, "HASHER", PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
    )
