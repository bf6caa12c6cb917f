"""What people meet who use the console all day: real clicks, keys, small windows, paper, and what a
role is offered.
"""

import pytest
from playwright.sync_api import expect

from .test_every_page import AXE, RULES

SIZES = [(1280, 860), (1280, 800), (1440, 900), (1024, 768), (1920, 1080), (800, 700)]
ANSWERS = [
    "harrow-dredging",
    "survey:/charts/harrow",
    "/harrow",
    "2031-01-31",
    "20 GiB",
    "group:chart-desk",
]


@pytest.mark.parametrize(("width", "height"), SIZES)
def test_a_pattern_is_looked_at_with_one_click_of_a_real_mouse(page, width, height):
    page.set_viewport_size({"width": width, "height": height})
    page.goto("/patterns/partner-folder")
    form = page.get_by_role("form", name="partner-folder")
    expect(form).to_be_visible()
    for field, text in zip(form.get_by_role("textbox").all(), ANSWERS, strict=True):
        field.fill(text)
    button = form.get_by_role("button", name="Show what follows")
    button.scroll_into_view_if_needed()
    for _ in range(5):
        box = button.bounding_box()
        page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
        page.mouse.down()
        held = button.bounding_box()
        page.mouse.up()
        assert held == pytest.approx(box), "the button moved while it was held"
        follows = page.get_by_role("region", name="What follows")
        expect(follows).not_to_contain_text("For example")
        first = form.get_by_role("textbox").first
        first.fill("")
        first.fill(ANSWERS[0])
        expect(follows).to_contain_text("For example")


def test_the_palette_opens_from_a_filter_that_is_focused(page):
    page.goto("/accounts")
    expect(page.get_by_label("Filter accounts")).to_be_focused()
    page.keyboard.press("Control+k")
    expect(page.get_by_placeholder("An account, a group")).to_be_visible()


def test_an_editor_that_is_filled_in_is_not_closed_unasked(page):
    page.goto("/accounts")
    page.get_by_role("button", name="Add account").click()
    form = page.get_by_role("dialog")
    form.get_by_label("name", exact=True).fill("no such name")
    page.keyboard.press("Escape")
    asked = form.get_by_role("alertdialog", name="Discard changes?")
    expect(asked).to_be_visible()
    asked.get_by_role("button", name="Keep editing").click()
    field = form.get_by_label("name", exact=True)
    expect(field).to_have_value("no such name")
    # What is wrong stands at the field that it is about.
    expect(field).to_have_attribute("aria-invalid", "true")
    page.keyboard.press("Escape")
    asked.get_by_role("button", name="Discard changes").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.get_by_role("button", name="Add account").click()
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_each_page_has_its_own_title(page):
    found = []
    for address, heading, title in (
        ("/", "Overview", "Overview"),
        ("/accounts", "Accounts", "Accounts"),
        ("/accounts/ines", "ines Inês Calado", "ines"),
        ("/subjects/group:chart-desk", "chart-desk group, 2 accounts", "chart-desk"),
        ("/journal", "Journal", "Journal"),
    ):
        page.goto(address)
        expect(page.get_by_role("heading", level=1, name=heading, exact=True)).to_be_visible()
        expect(page).to_have_title(f"{title} · Drawknife")
        found.append(page.title())
    assert len(set(found)) == len(found)


def test_a_role_is_not_offered_what_it_may_not_do(own_page, browser):
    service = own_page.service
    with service.client() as owner:
        owner.add_administrator("wenna", "reader")
        link = owner.sign_in_link("wenna").path
    context = browser.new_context(base_url=service.url)
    page = context.new_page()
    page.goto(link)
    expect(page.get_by_role("navigation")).to_be_visible()
    for address, shown, words in (
        ("/accounts", "ines", ["Add account"]),
        ("/subjects/group%3Asonar-lab", "sonar-lab", ["Edit group sonar-lab"]),
        ("/journal", "load", ["Take back"]),
        ("/", "Needs attention", ["Accept"]),
    ):
        page.goto(address)
        expect(page.get_by_role("main").get_by_text(shown).first).to_be_visible()
        for word in words:
            expect(page.get_by_role("button", name=word)).to_have_count(0)
    context.close()


@pytest.mark.parametrize(
    "address", ["/accounts/ines?show=access", "/stores?place=survey%3A%2Fcharts", "/reports"]
)
def test_paper_has_the_page_without_the_navigation_and_with_every_column(page, address):
    prints_whole(page, address)


def test_paper_has_a_report_with_every_column(own_page):
    with own_page.service.client() as client:
        client.make_report("survey:/inbox")
    prints_whole(own_page, "/reports/1")
    expect(own_page.get_by_text("survey:/inbox/fulmar").first).to_be_visible()


def prints_whole(page, address):
    page.goto(address)
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.locator(".mantine-Loader-root")).to_have_count(0)
    page.set_viewport_size({"width": 794, "height": 1123})  # A4 at 96 dots an inch
    page.emulate_media(media="print")
    expect(page.locator(".side")).to_be_hidden()
    cut = page.evaluate("""[...document.querySelectorAll('main, main *')].filter(x => {
            const style = getComputedStyle(x);
            const cut = ['auto', 'scroll', 'hidden'].includes(style.overflowX);
            return cut && x.scrollWidth > x.clientWidth + 2 && x.clientWidth > 1;
        }).map(x => x.className + ': ' + x.textContent.slice(0, 60))""")
    assert cut == []


@pytest.mark.parametrize(
    "address",
    ["/", "/accounts", "/accounts/ines", "/stores?place=survey%3A%2Fcharts", "/limits", "/journal"],
)
def test_on_a_telephone_everything_can_be_reached(page, address):
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(address)
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.locator(".mantine-Loader-root")).to_have_count(0)
    expect(page.get_by_role("navigation", name="Main")).to_be_hidden()
    # Nothing is pushed out of the window but what can be scrolled to.
    lost = page.evaluate("""[...document.querySelectorAll('main *')].filter(x => {
            const box = x.getBoundingClientRect();
            if (!x.textContent.trim() || box.right <= innerWidth + 1 || !box.width) return false;
            for (let up = x.parentElement; up; up = up.parentElement)
                if (['auto', 'scroll'].includes(getComputedStyle(up).overflowX)) return false;
            return true;
        }).map(x => x.tagName + ' ' + x.className + ': ' + x.textContent.slice(0, 60))""")
    assert lost == []
    page.get_by_role("button", name="Open the menu").click()
    page.get_by_role("link", name="Endpoints").click()
    expect(page.get_by_role("heading", name="Endpoints")).to_be_visible()
    expect(page.get_by_role("navigation", name="Main")).to_be_hidden()


@pytest.mark.parametrize(
    ("address", "opens"),
    [
        ("/accounts", "Add account"),
        ("/subjects/group%3Asonar-lab", "Edit group sonar-lab"),
        ("/endpoints", "Add endpoint"),
        ("/virtual-paths", "Add virtual path"),
        ("/stores", "Add store"),
        ("/limits", "Add quota"),
        ("/promises", "Add promise"),
    ],
)
@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_nothing_is_in_the_way_in_an_editor(page, address, opens, scheme):
    page.add_init_script(f"localStorage.setItem('mantine-color-scheme-value', '{scheme}')")
    page.goto(address)
    expect(page.locator("html")).to_have_attribute("data-mantine-color-scheme", scheme)
    page.get_by_role("button", name=opens).first.click()
    expect(page.get_by_role("dialog")).to_be_visible()
    page.evaluate("Promise.allSettled(document.getAnimations().map(x => x.finished))")
    page.evaluate(AXE)
    told = page.evaluate(f"axe.run(document, {{resultTypes: ['violations'], {RULES[scheme]}}})")
    assert [
        (x["id"], x["nodes"][0]["html"][:160])
        for x in told["violations"]
        if x["impact"] in ("serious", "critical")
    ] == []


def test_the_journal_by_kind_and_day_without_the_sign_ins(page):
    page.goto("/journal")
    main = page.get_by_role("main")
    expect(main.get_by_text("load", exact=True)).to_be_visible()
    expect(main).not_to_contain_text("signed in to the console")
    page.get_by_role("combobox", name="What is shown").click()
    page.get_by_role("option", name="sign-ins to the console").click()
    expect(main.get_by_text("signed in to the console").first).to_be_visible()
    expect(main.get_by_text("load", exact=True)).to_have_count(0)
    page.get_by_label("Only this day").fill("2020-01-01")
    expect(main).to_contain_text("Nothing of this kind was done then.")
