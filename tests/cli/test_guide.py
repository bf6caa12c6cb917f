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
            assert shown == printed(command, service), (
                f"{command}: write it anew with python -m tools.guide"
            )
            assert "\nTry 'drawknife " not in shown, (
                f"{command}: nobody is to learn a command that there is not"
            )


#: What a command says where the story on a page has gone wrong: nothing was found, or done, or
#: somebody is in the way.
ASTRAY = (
    "nothing to change",
    "It changes nothing",
    "no line is like that",
    "nobody has",
    "Refused:",
    "does not fit",
)


@pytest.mark.parametrize("page", PAGES, ids=lambda p: p.name)
def test_what_is_shown_is_what_the_story_is_about(page):
    """Outputs are written by a tool, and so they are read here: a step that did nothing tells no
    story.
    """
    for command, shown in BLOCK.findall(page.read_text()):
        assert not [words for words in ASTRAY if words in shown], command


def test_the_story_of_a_wrong_change_takes_that_one_back():
    shown = dict(BLOCK.findall((ROOT / "docs" / "guide" / "changing.md").read_text()))
    wrong = re.match(
        r"revision (\d+):", shown['entry add survey:/charts "deny group:partners download"']
    )[1]
    lost, back = (
        "lose download at /charts/…, /charts/issued",
        "gain download at /charts/…, /charts/issued",
    )
    assert lost in shown['entry add survey:/charts "deny group:partners download"']
    assert (
        back in shown[f"back {wrong} --yes"]
        and "- deny group:partners download" in shown[f"back {wrong} --preview"]
    )
    assert f"--as-of {int(wrong) - 1}" in str(shown.keys())


def test_at_a_rehearsal_nobody_is_locked_out_but_where_that_is_the_story():
    page = (ROOT / "docs" / "guide" / "trying.md").read_text()
    locked = [command for command, shown in REHEARSED.findall(page) if "is locked" in shown]
    assert len(locked) == 1 and ":wrong" in locked[0]


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
