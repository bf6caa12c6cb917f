"""What the documentation shows is what the commands print, on what the demo starts."""

import re

import pytest
from tools.guide import BLOCK, PAGES, REHEARSED, ROOT, demo_service, fill_once, printed, rehearsal


@pytest.fixture(scope="module")
def as_the_demo(cluster, tmp_path_factory):
    return fill_once(cluster, tmp_path_factory.mktemp("base"))


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_the_outputs_shown_are_real(page, cluster, as_the_demo, tmp_path):
    blocks = BLOCK.findall(page.read_text())
    assert blocks
    with demo_service(cluster, as_the_demo, f"page_{page.stem}", tmp_path) as service:
        for command, shown in blocks:
            assert shown == printed(command, service), f"{command}: write it anew with python -m tools.guide"
            assert "\nTry 'drawknife " not in shown, f"{command}: nobody is to learn a command that there is not"


def test_what_clients_are_told_at_a_rehearsal_is_real(tmp_path):
    """The situations of the guide, met with a client: each command is really typed."""
    page = ROOT / "docs" / "guide" / "trying.md"
    blocks = REHEARSED.findall(page.read_text())
    assert len(blocks) > 10
    with rehearsal(tmp_path) as done:
        for command, shown in blocks:
            assert shown == done(command), f"{command}: write it anew with python -m tools.guide"


def test_the_links_lead_somewhere():
    for page in [*PAGES, *(ROOT / "docs").rglob("*.md")]:
        for link in re.findall(r"\]\(([^)#\s]+)", page.read_text()):
            assert link.startswith("http") or (page.parent / link).exists(), (page, link)
