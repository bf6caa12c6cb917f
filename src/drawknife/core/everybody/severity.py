"""How much a finding matters: whether people are stopped now, somebody may get too much or be
stopped soon, or it is to be tidied up.
"""

from __future__ import annotations

from typing import Literal

Severity = Literal["stops-people", "risk", "tidy-up"]
#: Most pressing first, each with what it is called for people.
SEVERITIES: dict[Severity, str] = {
    "stops-people": "Stops people now",
    "risk": "Risk",
    "tidy-up": "Tidy up",
}

_OF_KIND: dict[Severity, tuple[str, ...]] = {
    "stops-people": (
        "account-expired",
        "data-out-of-reach",
        "disk-refuses",
        "endpoint-clash",
        "no-certificate",
        "no-credential",
        "owner-cannot-enter",
        "path-ambiguous",
        "path-unusable",
    ),
    "risk": (
        "account-expires",
        "certificate",
        "limit-nearly-full",
        "limit-soft",
        "line-ends",
        "names-alike",
        "overcommitted",
        "passive-range-small",
        "promise-broken",
        "setting-undecided",
        "sync-failed",
        "trial-not-as-expected",
        "trial-turned",
    ),
    "tidy-up": (
        "dangling-name",
        "endpoint-port-taken",
        "folder-without-account",
        "grant-of-no-use",
        "grant-without-enter",
        "group-loop",
        "line-ended",
        "path-renamed",
        "sync-waits",
    ),
}
#: The severity of each kind of finding; a kind that is not here is not to be made.
SEVERITY: dict[str, Severity] = {
    kind: severity for severity, kinds in _OF_KIND.items() for kind in kinds
}
