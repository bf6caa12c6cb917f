"""What the documentation shows is what the commands print."""

import re
from contextlib import ExitStack

import pytest
from tools.guide import ASKS_A_SERVICE, BLOCK, PAGES, ROOT, demo_service, printed


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_the_outputs_shown_are_real(page, request, tmp_path):
    text = page.read_text()
    blocks = BLOCK.findall(text)
    assert blocks
    with ExitStack() as stack:
        service = None
        if ASKS_A_SERVICE in text:
            service = stack.enter_context(demo_service(request.getfixturevalue("address"), tmp_path))
        for command, shown in blocks:
            assert shown == printed(command, service), f"{command}: write it anew with python -m tools.guide"


def test_the_links_lead_somewhere():
    for page in [*PAGES, *(ROOT / "docs").rglob("*.md")]:
        for link in re.findall(r"\]\(([^)#\s]+)", page.read_text()):
            assert link.startswith("http") or (page.parent / link).exists(), (page, link)
