"""A few days of operation on two services: changes, syncs, censuses, findings told, a backup, one
of them started again.
"""

from tools.days import run


def test_nothing_is_lost_and_each_finding_is_told_once():
    assert len(run(2, 6)) == 4  # what is not as it must be is told by an assertion in there
