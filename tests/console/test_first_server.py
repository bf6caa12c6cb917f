"""From an empty model to somebody's hand-over sheet, by the short forms of the overview."""

import re

from playwright.sync_api import expect

from ..conftest import ROOT, serving
from .test_every_page import AXE, signed_in

#: What is typed in each step; the rest stands there by default.
STEPS = (
    {"The folder on disk": "/srv/files"},
    {"The first account": "eve"},
    {},
    {},
    {"How much fits": "20 GiB"},
)


def test_each_step_tells_what_follows_and_at_the_end_there_is_a_sheet(browser, address, tmp_path):
    with serving(address, tmp_path, "--console", ROOT / "console" / "dist") as service:
        context, page = signed_in(browser, service, "light")
        steps = page.get_by_label("A first server")
        for typed in STEPS:
            for label, text in typed.items():
                steps.get_by_label(label).fill(text)
            steps.get_by_role("button", name="Show what follows").click()
            button = steps.get_by_role("button", name="Do it")
            expect(button).to_be_visible()
            if "The first account" in typed:
                page.evaluate(AXE)
                told = page.evaluate("axe.run(document, {resultTypes: ['violations']})")[
                    "violations"
                ]
                assert [x["id"] for x in told if x["impact"] in ("serious", "critical")] == []
            button.click()
            expect(button).to_be_hidden()
        sheet = page.get_by_label("Hand-over sheet")
        expect(sheet).to_contain_text("You cannot sign in anywhere for now")
        page.get_by_role("button", name="Generate one").click()
        expect(sheet).to_contain_text("SFTP")
        expect(sheet).to_contain_text("/staff: look and fetch files, put files")
        expect(steps.get_by_role("button", name=re.compile("done"))).to_have_count(len(STEPS))
        page.reload()
        expect(page.get_by_text("is in force.")).to_be_visible()
        expect(steps).to_be_hidden()  # there is a server now
        context.close()


def test_a_step_can_be_skipped_and_taken_up_again(browser, address, tmp_path):
    with serving(address, tmp_path, "--console", ROOT / "console" / "dist") as service:
        context, page = signed_in(browser, service, "dark")
        steps = page.get_by_label("A first server")
        steps.get_by_role("button", name="Try it as them").click()
        expect(steps).to_contain_text("make the first account in step 2")
        steps.get_by_role("button", name="What they see").click()
        steps.get_by_role("button", name="Show what follows").click()
        expect(steps.get_by_role("alert")).to_contain_text("files")  # no such store yet
        steps.get_by_role("button", name="How much fits").click()
        steps.get_by_role("button", name="No limit for now").click()
        expect(steps).to_contain_text("There is nobody to try it as")
        context.close()
