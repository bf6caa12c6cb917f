"""The console in headless Chromium, on the demo."""

import pytest
from playwright.sync_api import expect, sync_playwright
from tools.demo import BUREAU

from ..conftest import DEMO, ROOT, serving

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


#: Milliseconds: a machine that does much besides takes its time, and what does not come fails all
#: the same.
expect.set_options(timeout=20_000)


@pytest.fixture(scope="module")
def browser():
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        yield found
        found.close()


@pytest.fixture
def page(browser, service):
    """A page that is signed in; it fails the test if the console logs an error."""
    context = browser.new_context(base_url=service.url, viewport={"width": 1280, "height": 800})
    context.add_init_script(
        "window.__errors = []; addEventListener('error', e => __errors.push(String(e.error)))"
    )
    page = context.new_page()
    page.goto("/")
    page.get_by_label("Token").fill(service.token)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    yield page
    assert page.evaluate("window.__errors") == []
    context.close()


@pytest.fixture
def own_page(browser, cluster, tmp_path):
    """A page on a service whose model may be changed, with the demo's directory."""
    address = cluster.create_database("console")
    with serving(
        address, tmp_path, "--console", ROOT / "console" / "dist", "--load", DEMO
    ) as found:
        with found.client() as client:
            client.add_directory("bureau", {"address": str(DEMO.parent / "bureau.ldif"), **BUREAU})
        context = browser.new_context(base_url=found.url, viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto("/sign-in")
        page.get_by_label("Token").fill(found.token)
        page.keyboard.press("Enter")
        expect(page.get_by_role("navigation")).to_be_visible()
        page.service, found.address = found, address
        yield page
        context.close()
