"""What the documentation shows is what the commands print."""

import re

import pytest
from tools.guide import BLOCK, PAGES, ROOT, printed


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_the_outputs_shown_are_real(page):
    blocks = BLOCK.findall(page.read_text())
    assert blocks
    for command, shown in blocks:
        assert shown == printed(command), f"{command}: write it anew with python -m tools.guide"


def test_the_links_lead_somewhere():
    for page in [*PAGES, *(ROOT / "docs").rglob("*.md")]:
        for link in re.findall(r"\]\(([^)#\s]+)", page.read_text()):
            assert link.startswith("http") or (page.parent / link).exists(), (page, link)
