"""Every page, light and dark: nothing in the way of whoever uses it with a keyboard or a screen
reader, and no failed request.
"""

import re

import pytest
from playwright.sync_api import expect

from ..conftest import ROOT

AXE = (ROOT / "console" / "node_modules" / "axe-core" / "axe.min.js").read_text()
PAGES = [
    "/",
    "/accounts",
    "/accounts/ines",
    "/accounts/ines?show=access",
    "/groups",
    "/subjects/group%3Asonar-lab",
    "/directories",
    "/stores",
    "/stores?place=survey%3A%2Fcharts",
    "/virtual-paths",
    "/endpoints",
    "/limits",
    "/map",
    "/who",
    "/who?right=download&at=%2Fsoundings",
    "/promises",
    "/trials",
    "/rehearsal",
    "/compare",
    "/compare?one=ines&other=odile",
    "/patterns",
    "/drafts",
    "/administrators",
    "/journal",
    "/reports",
    "/sign-in",
]

#: In the dark only colours are others.
RULES = {"light": "", "dark": "runOnly: ['color-contrast']"}


def signed_in(browser, service, scheme):
    context = browser.new_context(
        base_url=service.url, viewport={"width": 1280, "height": 800}, color_scheme=scheme
    )
    context.add_init_script(f"localStorage.setItem('mantine-color-scheme-value', '{scheme}')")
    page = context.new_page()
    page.goto("/")
    page.get_by_label("Token").fill(service.token)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    return context, page


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_nothing_is_in_the_way_and_no_request_fails(browser, service, scheme):
    context, page = signed_in(browser, service, scheme)
    failed, found = [], {}
    page.on("response", lambda r: failed.append((r.status, r.url)) if r.status >= 400 else None)
    page.on(
        "requestfailed",
        lambda r: failed.append((r.failure, r.url)) if r.failure != "net::ERR_ABORTED" else None,
    )
    for address in PAGES:
        page.goto(address)
        expect(
            page.get_by_role("heading", level=1).or_(page.get_by_label("Token")).first
        ).to_be_visible()
        expect(page.locator(".mantine-Loader-root")).to_have_count(0)
        page.evaluate(AXE)
        told = page.evaluate(f"axe.run(document, {{resultTypes: ['violations'], {RULES[scheme]}}})")
        for x in told["violations"]:
            if x["impact"] in ("serious", "critical"):
                found.setdefault(x["id"], []).append(
                    (address, x["nodes"][0]["html"][:160], len(x["nodes"]))
                )
    assert found == {} and failed == []
    context.close()


def test_the_palette_goes_to_anything_by_a_part_of_its_name(page):
    for typed, chosen, where in (
        ("west-sh", "survey:/soundings/west-shoal", r"/stores\?place=survey"),
        ("odil", "odile", r"/accounts/odile"),
        ("sonar", "sonar-lab", r"/subjects/group"),
        ("prom", "Promises", r"/promises"),
    ):
        page.keyboard.press("Control+k")
        page.get_by_placeholder("An account, a group").fill(typed)
        expect(page.get_by_text(chosen, exact=True).first).to_be_visible()
        page.keyboard.press("Enter")
        expect(page).to_have_url(re.compile(where))
        expect(page.get_by_placeholder("An account, a group")).to_be_hidden()
    page.get_by_role("button", name="Go to anything by its name").click()
    page.get_by_placeholder("An account, a group").fill("nothing-of-the-kind")
    expect(page.get_by_text("Nothing has that in its name.")).to_be_visible()


def test_an_access_tree_folds_opens_and_is_searched(page):
    page.goto("/accounts/ines?show=access")
    tree = page.get_by_role("grid")
    expect(tree.get_by_text("exchange")).to_be_visible()
    expect(tree.get_by_text("issued")).to_be_hidden()  # as /charts
    page.get_by_role("button", name="Open /charts").press("Enter")
    expect(tree.get_by_text("issued")).to_be_visible()
    page.get_by_role("button", name="Fold /charts").click()
    expect(tree.get_by_text("issued")).to_be_hidden()
    page.get_by_label("Find a location").fill("ISSUED")
    expect(tree.get_by_text("/charts/issued")).to_be_visible()
    expect(tree.get_by_text("exchange")).to_be_hidden()
    page.get_by_label("Find a location").fill("nowhere-at-all")
    expect(page.get_by_text("No location has that in its name.")).to_be_visible()


def test_a_folder_tells_who_can_do_what_in_it(page):
    page.goto("/stores?place=survey%3A%2Fcharts%2Fexchange")
    here = page.get_by_role("region", name="Who can do what here")
    expect(here.get_by_role("link", name="ines", exact=True)).to_be_visible()
    expect(here.get_by_text("allow group:chart-desk read,drop")).to_be_visible()
    here.get_by_role("link", name="Who can upload here: yes for bram").click()
    expect(page).to_have_url(re.compile(r"/who\?right=upload&at=survey"))
