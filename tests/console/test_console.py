"""The console in headless Chromium, on the demo."""

import ftplib
import io
import itertools
import os
import re
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect, sync_playwright
from tools.demo import BUREAU
from tools.rehearsing import standing

from drawknife.messages import NewCensus
from drawknife.rehearsal.model_source import OfService

from ..conftest import DEMO, ROOT, serving, until

_numbers = itertools.count(1)
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync",
]  # fmt: skip


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
    context.add_init_script("window.__errors = []; addEventListener('error', e => __errors.push(String(e.error)))")
    page = context.new_page()
    page.goto("/")
    page.get_by_label("Token").fill(service.token)
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    yield page
    assert page.evaluate("window.__errors") == []
    context.close()


def test_a_wrong_token_is_refused_and_the_address_is_kept(browser, service):
    page = browser.new_page(base_url=service.url)
    page.goto("/accounts/ines")
    page.get_by_label("Token").fill("dk_wrong")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_text("this is no token that is good")).to_be_visible()
    page.get_by_label("Token").fill(service.token)
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/accounts/ines$"))
    page.close()


def test_the_link_that_the_service_prints_signs_in_once(browser, service):
    link = re.search(r"(/sign-in#\S+)", "".join(service.said))[1]
    page = browser.new_page(base_url=service.url)
    page.goto(link)
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    page.get_by_label("Sign out").click()
    expect(page.get_by_label("Token")).to_be_visible()
    page.goto("/")
    page.goto(link)
    expect(page.get_by_text("a link signs in once")).to_be_visible()
    page.close()


def test_the_overview_tells_what_wants_a_decision(page):
    section = page.get_by_label("What wants a decision now")
    expect(section).to_contain_text("endpoint old-quay does not start")
    section.get_by_text("/archive is not served to bram").click()
    expect(page).to_have_url(re.compile(r"/virtual-paths\?path=%2Farchive"))
    expect(page.get_by_text("survey:/archive/lab")).to_be_visible()


def test_accounts_are_filtered_and_opened_by_keyboard(page):
    page.get_by_role("link", name="Accounts", exact=True).click()
    rows = page.get_by_role("grid", name="Accounts").get_by_role("row")
    expect(rows).to_have_count(19)
    page.keyboard.type("fleet")
    expect(rows).to_have_count(4)
    expect(page).to_have_url(re.compile("matching=fleet"))
    page.get_by_role("grid", name="Accounts").focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/accounts/kittiwake"))
    page.goto("/accounts?matching=zzz")
    expect(page.get_by_text("No account matches “zzz”.")).to_be_visible()


def test_a_cell_opens_why_in_place_and_has_an_address(page):
    page.goto("/accounts/yuki")
    cell = page.get_by_role("button", name="delete-file at /soundings: no", exact=True)
    cell.click()
    why = page.get_by_label("Why", exact=True)
    expect(why).to_contain_text("Refused by the folder gate")
    decides = why.locator('[data-fate="decides"]')
    expect(decides).to_contain_text("deny group:night-watch delete-file,delete-folder")
    expect(why.locator('[data-fate="overruled"]')).to_contain_text("overruled by a deny on its level")
    page.reload()
    expect(page.get_by_label("Why", exact=True)).to_contain_text("Refused by the folder gate")
    page.get_by_label("Why", exact=True).get_by_role("link", name="survey:/soundings", exact=True).first.click()
    expect(page.get_by_label("Entries")).to_contain_text("deny group:night-watch delete-file,delete-folder")


def test_cells_are_moved_between_with_the_arrow_keys(page):
    page.goto("/accounts/ines")
    page.get_by_role("button", name="enter at /charts/exchange: yes", exact=True).focus()
    for _ in range(4):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Why", exact=True)).to_contain_text("Allowed — but not for what others own")
    expect(page.get_by_label("Why", exact=True)).to_contain_text("allow owner overwrite,rename,delete-file")


def test_access_through_an_endpoint(page):
    page.goto("/accounts/anonymous?endpoint=public-tides")
    expect(page.get_by_role("button", name="download at /tides: yes")).to_be_visible()
    expect(page.get_by_role("button", name="upload at /tides: no")).to_be_visible()
    page.goto("/accounts/bram")
    expect(page.get_by_text("/archive is not served:")).to_be_visible()


def test_what_an_account_sees_and_counts_as(page):
    page.goto("/accounts/harrow-dredging?show=sees")
    page.get_by_text("charts", exact=True).click()
    expect(page.get_by_text("issued", exact=True)).to_be_visible()
    expect(page.get_by_text("exchange")).to_have_count(0)
    page.get_by_role("tab", name="Standing and settings").click()
    expect(page.get_by_label("Standing", exact=True)).to_contain_text("group:dredge-liaison › group:north-bank")
    expect(page.get_by_label("Settings", exact=True)).to_contain_text("unit:partners")


def test_who_map_and_compare(page):
    page.goto("/who?right=download&at=survey:/soundings/north-bank")
    expect(page.get_by_role("main")).to_contain_text(
        "group:dredge-liaison › group:north-bank › group:soundings-readers"
    )
    page.goto("/map?right=upload&under=/inbox")
    expect(page.get_by_text("19 accounts by 5 locations")).to_be_visible()
    page.get_by_role("grid", name="Map").focus()
    for key in ("ArrowDown", "ArrowDown", "ArrowDown", "Enter"):
        page.keyboard.press(key)
    expect(page).to_have_url(re.compile(r"/accounts/fulmar\?why=upload%40%2Finbox"))
    page.goto("/map?right=upload")
    page.get_by_label("Levels below").fill("1")
    expect(page.get_by_text("19 accounts by 9 locations")).to_be_visible()
    page.get_by_label("In group").fill("boats")
    expect(page.get_by_text("4 accounts by 9 locations")).to_be_visible()
    expect(page).to_have_url(re.compile("group=boats"))
    page.get_by_label("In group").fill("nobody")
    expect(page.get_by_role("alert")).to_contain_text("there is no group 'nobody'")
    page.goto("/compare?one=ines&other=yuki")
    expect(page.get_by_text("5 differences")).to_be_visible()
    page.goto("/compare?one=ines&other=nobody")
    expect(page.get_by_role("alert")).to_contain_text("there is no account 'nobody'")


def test_light_and_dark(page):
    background = "getComputedStyle(document.body).backgroundColor"
    before = page.evaluate(background)
    page.get_by_label("Switch light and dark").click()
    expect(page.locator("html")).to_have_attribute("data-mantine-color-scheme", "dark")
    assert page.evaluate(background) != before


def test_ten_thousand_accounts_are_a_few_rows_in_the_page(browser, cluster, tmp_path):
    address = cluster.create_database("many_accounts")
    document = "drawknife: 1\naccounts:\n" + "".join(f"- name: boat-{i:05}\n" for i in range(10_000))
    with serving(address, tmp_path, "--console", "console/dist") as service:
        with service.client() as client:
            client.load(document.encode())
        page = browser.new_page(base_url=service.url)
        page.goto("/accounts")
        page.get_by_label("Token").fill(service.token)
        page.keyboard.press("Enter")
        grid = page.get_by_role("grid", name="Accounts")
        expect(page.get_by_text("10000 accounts")).to_be_visible()
        assert grid.get_by_role("row").count() < 60
        page.get_by_label("Filter accounts").fill("boat-0777")
        expect(grid.get_by_role("row")).to_have_count(10)
        page.get_by_label("Filter accounts").fill("")
        grid.focus()
        for _ in range(4):
            page.keyboard.press("PageDown")
        expect(grid.get_by_text("boat-00060", exact=True)).to_be_visible()
        page.close()


def test_an_account_against_itself_in_a_model_file(page, tmp_path):
    from ..conftest import DEMO

    mended = tmp_path / "mended.yaml"
    turnstone = "  - path: /inbox/turnstone\n    owner: turnstone\n"
    assert turnstone in DEMO.read_text()
    mended.write_text(DEMO.read_text().replace(turnstone, turnstone + "    entries: [allow account:turnstone add]\n"))
    page.goto("/compare")
    page.get_by_label("One account").fill("turnstone")
    with page.expect_file_chooser() as chooser:
        page.get_by_label("or the same in a model file").click()
    chooser.value.set_files(mended)
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_role("main")).to_contain_text("turnstone in mended.yaml")
    expect(page.get_by_role("main")).to_contain_text(
        "`allow account:turnstone add` on survey:/inbox/turnstone allows it"
    )
    mended.write_text("drawknife: 1\nunits: [a//b]\n")
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_role("alert")).to_contain_text("changed since it was chosen")
    with page.expect_file_chooser() as chooser:
        page.get_by_label("or the same in a model file").click()
    chooser.value.set_files(mended)
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_role("alert")).to_contain_text("line 2: units[0]: a name may not be empty")


def test_folders_are_walked_and_lead_to_who(page):
    page.get_by_role("link", name="Stores and folders").click()
    page.get_by_role("link", name=re.compile("^survey")).click()
    page.get_by_label("Folders in it").get_by_text("charts").click()
    page.get_by_label("Folders in it").get_by_text("review-2026").click()
    entries = page.get_by_label("Entries")
    expect(entries).to_contain_text("sealed: nothing comes down into it")
    expect(entries).to_contain_text("kept out by the seal, on survey:/charts")
    page.get_by_role("link", name="make-folder", exact=True).click()
    expect(page).to_have_url(re.compile(r"/who\?right=make-folder&at=survey"))
    expect(page.get_by_role("main")).to_contain_text("odile")
    page.goto("/stores?place=nowhere:/x")
    expect(page.get_by_role("alert")).to_contain_text("there is no store 'nowhere'")


def test_who_lacks_it_by_one_gate_only(page):
    page.goto("/who")
    page.get_by_label("At", exact=True).fill("survey:/inbox/turnstone")
    page.get_by_role("combobox", name="Right").click()
    page.get_by_role("option", name="upload").click()
    page.get_by_role("combobox", name="But for the gate").click()
    page.get_by_role("option", name="folder").click()
    page.get_by_role("button", name="Show").click()
    expect(page.get_by_role("main")).to_contain_text("deny group:boats all below")


def test_endpoints_journal_and_pages_that_are_not_there(page):
    page.goto("/endpoints")
    expect(page.get_by_role("main")).to_contain_text("port of harbour and port of old-quay both take 2121")
    page.goto("/journal")
    expect(page.get_by_role("main")).to_contain_text("+ units fleet")
    page.goto("/elsewhere")
    expect(page.get_by_role("alert")).to_contain_text("There is no such page.")
    page.goto("/accounts/nobody")
    expect(page.get_by_role("alert")).to_contain_text("there is no account 'nobody'")


def test_a_service_that_is_gone_is_told_and_asked_again(browser, cluster, tmp_path):
    address = cluster.create_database("going")
    with serving(address, tmp_path, "--console", "console/dist") as service:
        page = browser.new_page(base_url=service.url)
        page.goto("/")
        page.get_by_label("Token").fill(service.token)
        page.keyboard.press("Enter")
        expect(page.get_by_text("All is well")).to_be_visible()
        page.get_by_role("link", name="Endpoints", exact=True).click()
        expect(page.get_by_text("There are no endpoints yet")).to_be_visible()
        service.process.terminate()
        service.process.wait()
        page.get_by_role("link", name="Journal").click()
        expect(page.get_by_role("alert")).to_contain_text("The service does not answer")
        expect(page.get_by_role("button", name="Try again")).to_be_visible()
        page.close()


@pytest.fixture
def own_page(browser, cluster, tmp_path):
    """A page on a service whose model may be changed, with the demo's directory."""
    address = cluster.create_database(f"console_{os.getpid()}_{next(_numbers)}")
    with serving(address, tmp_path, "--console", ROOT / "console" / "dist", "--load", DEMO) as found:
        with found.client() as client:
            client.add_directory("bureau", {"address": str(DEMO.parent / "bureau.ldif"), **BUREAU})
        context = browser.new_context(base_url=found.url, viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto("/sign-in")
        page.get_by_label("Token").fill(found.token)
        page.keyboard.press("Enter")
        expect(page.get_by_role("navigation")).to_be_visible()
        page.service = found
        yield page
        context.close()


def test_an_edit_shows_what_follows_before_it_is_saved(own_page):
    page = own_page
    page.goto("/subjects/group%3Asonar-lab")
    expect(page.get_by_label("Whom its settings reach")).to_contain_text("yuki: group:night-watch goes before it")
    page.get_by_role("button", name="Edit group sonar-lab").click()
    members = page.get_by_role("group", name="members")
    expect(members).to_contain_text("account:bram")
    members.get_by_role("button", name="Add member").click()
    members.get_by_role("combobox", name="subject").fill("unit:nowhere")
    follows = page.get_by_role("dialog").get_by_label("What follows")
    expect(follows.get_by_role("alert")).to_contain_text("there is no unit 'nowhere'")
    expect(page.get_by_role("button", name="Save")).to_be_disabled()
    members.get_by_role("button", name="Take away member unit:nowhere").click()
    members.get_by_role("button", name="Take away member account:bram").click()
    expect(follows).to_contain_text("bram")
    expect(follows).to_contain_text("mended /archive is not served to bram")
    # Meanwhile somebody else changes something: the save is refused, and what follows is looked at anew.
    with page.service.client() as client:
        client.change([{"op": "add", "kind": "unit", "name": "shore/jetty"}])
    page.get_by_role("button", name="Save").click()
    expect(follows.get_by_role("alert")).to_contain_text("the model is at revision")
    expect(page.get_by_role("button", name="Save")).to_be_enabled()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(page.get_by_label("Members")).not_to_contain_text("bram")
    page.goto("/journal")
    expect(page.get_by_role("main")).to_contain_text("change group sonar-lab")
    expect(page.get_by_role("main")).to_contain_text("− account:bram")


def test_things_are_added_renamed_and_removed(own_page):
    page = own_page
    page.goto("/accounts")
    page.get_by_role("button", name="Add account").click()
    page.get_by_role("textbox", name="name", exact=True).fill("lidia")
    page.get_by_role("combobox", name="unit").fill("shore/lab")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.goto("/accounts/lidia")
    page.get_by_role("button", name="Edit account lidia").click()
    page.get_by_role("textbox", name="name", exact=True).fill("lydia")
    page.get_by_role("button", name="Save").click()
    expect(page).to_have_url(re.compile("/accounts/lydia"))
    page.get_by_role("button", name="Edit account lydia").click()
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page).to_have_url(re.compile("/accounts$"))
    page.goto("/endpoints")
    page.get_by_role("button", name="Edit endpoint old-quay").click()
    page.get_by_role("textbox", name="port", exact=True).fill("2122")
    expect(page.get_by_role("dialog")).to_contain_text("✓ mended endpoint old-quay does not start")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("main")).not_to_contain_text("does not start")


def test_a_password_and_a_key_are_given_and_taken_away(own_page):
    page = own_page
    page.goto("/accounts/kittiwake?show=credentials")
    password = page.get_by_role("region", name="Password")
    password.get_by_role("button", name="Generate one").click()
    made = password.get_by_role("status").locator("b").inner_text()
    with page.service.client() as client:
        assert client.password_is_right("kittiwake", made)
    password.get_by_label("A new one").fill("short")
    password.get_by_role("button", name="Set", exact=True).click()
    expect(password.get_by_role("alert")).to_contain_text("8 characters or more")
    password.get_by_role("button", name="Take it away").click()
    expect(password).to_contain_text("none: it cannot sign in with one")
    keys = page.get_by_role("region", name="Public keys")
    line = (DEMO.parent / "kittiwake.pub").read_text()
    with page.service.client() as client:
        fingerprint = client.add_key("kittiwake", line).keys[0].fingerprint
        client.remove_key("kittiwake", fingerprint)
    keys.get_by_label("Add one").fill(line)
    keys.get_by_role("button", name="Add key").click()
    expect(keys).to_contain_text(fingerprint)
    keys.get_by_role("button", name=f"Remove key {fingerprint}").click()
    expect(keys).not_to_contain_text(fingerprint)
    page.goto("/journal")
    expect(page.get_by_role("main")).to_contain_text("password of kittiwake")
    expect(page.get_by_role("main")).not_to_contain_text(made)


def test_a_directory_is_added_changed_and_removed(own_page):
    page = own_page
    page.goto("/directories")
    page.get_by_role("button", name="Add directory").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("name", exact=True).fill("crew")
    dialog.get_by_label("address", exact=True).fill("/etc/passwd")
    dialog.get_by_label("people base").fill("ou=people,dc=tidewrack,dc=example")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_be_visible()
    dialog.get_by_label("address", exact=True).fill(str(DEMO.parent / "bureau.ldif"))
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)
    page.get_by_role("button", name="Edit directory crew").click()
    page.get_by_role("dialog").get_by_label("suffix").fill("@crew")
    page.get_by_role("dialog").get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    with page.service.client() as client:
        assert client.directory("crew").options.suffix == "@crew"
    page.get_by_role("button", name="Edit directory crew").click()
    page.get_by_role("button", name="Remove…").click()
    page.get_by_role("button", name="Remove", exact=True).click()
    expect(page.get_by_role("region", name="Directory crew")).to_have_count(0)


def test_networks_and_lockout_are_changed_beside_the_endpoints(own_page):
    page = own_page
    page.goto("/endpoints")
    page.get_by_role("button", name="Edit networks").click()
    inside = page.get_by_role("textbox", name="inside")
    inside.fill("192.0.2.0/24\n203.0.113.0/33")
    alert = page.get_by_role("dialog").get_by_role("alert")
    expect(alert).to_contain_text("203.0.113.0/33")
    inside.fill("192.0.2.0/24\n203.0.113.0/24")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("region", name="Networks")).to_contain_text("203.0.113.0/24")
    page.get_by_role("button", name="Edit lockout address").click()
    page.get_by_role("textbox", name="failures").fill("7")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("region", name="Lockout")).to_contain_text("7 failures of one address")


def test_what_an_account_would_lose_outside_of_a_group(page):
    page.goto("/groups")
    page.get_by_role("link", name=re.compile("^soundings-readers")).click()
    members = page.get_by_label("Members")
    expect(members).to_contain_text("group:dredge-liaison › group:north-bank")
    members.locator(".row", has_text="harrow-dredging").get_by_role("button", name="without it?").click()
    expect(page.get_by_label("What it would lose")).to_contain_text("− loses enter, list, download")
    page.goto("/groups?show=units")
    page.get_by_role("link", name=re.compile("inshore")).click()
    expect(page.get_by_label("What comes down from it")).to_contain_text("unit:fleet › group:boats")


def test_a_sync_is_shown_first_and_then_done(own_page):
    page = own_page
    page.goto("/directories")
    bureau = page.get_by_label("Directory bureau", exact=True)
    expect(bureau).to_contain_text("never synced")
    bureau.get_by_role("button", name="What would a sync do?").click()
    expect(bureau).to_contain_text("1 account switched off: jonas")
    expect(bureau.get_by_label("What follows")).to_contain_text("jonas")
    bureau.get_by_role("button", name="Sync now").click()
    expect(bureau).to_contain_text("● synced: 6 changes")
    page.goto("/accounts/thora")
    expect(page.get_by_role("main")).to_contain_text("Þóra Mánadóttir")


def test_limits_as_bars_with_who_fills_them(page):
    page.goto("/limits")
    limits = page.get_by_label("Limits", exact=True)
    expect(limits.locator(".row").nth(1)).to_contain_text("folder quota tides-shelf")
    limits.get_by_text("folder quota issued-charts").click()
    detail = page.get_by_label("What fills it")
    expect(detail).to_contain_text("the grace period ended")
    expect(detail).to_contain_text("survey:/charts/issued")
    expect(page).to_have_url(re.compile("limit=folder\\+issued-charts"))
    page.get_by_role("combobox", name="Usage by").click()
    page.get_by_role("option", name="unit").click()
    expect(page.get_by_label("Usage", exact=True)).to_contain_text("shore/lab")


def test_growth_is_drawn_after_censuses(own_page):
    page = own_page
    now = datetime.now(UTC)
    with page.service.client() as client:
        for days in (20, 10, 0):
            rows = [{"folder": "/ines", "owner": "ines", "bytes": (400 - 5 * days) * 2**30, "files": 4}]
            client.take_census(
                NewCensus.model_validate({"store": "homes", "at": now - timedelta(days=days), "rows": rows})
            )
    page.goto("/limits?limit=capacity+homes")
    detail = page.get_by_label("What fills it")
    expect(detail).to_contain_text("grows by 5 GiB a day; full around")
    expect(detail.locator("svg path.recharts-line-curve")).to_have_count(1)


def test_the_sign_in_question_tells_all_that_is_in_the_way(page):
    page.goto("/endpoints")
    expect(page.get_by_role("main")).to_contain_text("certificate: it expired on 2026-10-15")
    form = page.get_by_label("May somebody sign in?")
    form.get_by_role("combobox", name="May").click()
    page.get_by_role("option", name="refa").click()
    form.get_by_label("from", exact=True).fill("203.0.113.9")
    form.get_by_role("button", name="Ask").click()
    expect(form).to_contain_text("refa is not admitted from 203.0.113.9")
    expect(form).to_contain_text("The client is told only: “Sign-in refused.”")
    expect(form).to_contain_text("port 2121 leads to harbour, and the passive range 40000-40099 does not")


def test_a_mend_goes_into_a_draft_which_is_looked_at_and_applied(own_page):
    page = own_page
    page.goto("/drafts")
    page.get_by_label("A new draft").fill("autumn")
    page.get_by_role("button", name="Begin it").click()
    banner = page.get_by_role("status", name="The draft")
    expect(banner).to_contain_text("As it would be with draft autumn")
    page.goto("/accounts/fulmar?why=upload@/notices")
    page.get_by_role("button", name="What would let it pass?").click()
    ways = page.get_by_label("Ways to mend it")
    ways.get_by_role("button", name="Put in autumn").first.click()
    with page.service.client() as client:
        before = client.dump()
        until(lambda: client.draft("autumn").steps)
        assert client.dump() == before and client.in_draft("autumn").dump() != before
        banner.get_by_role("link", name="autumn").click()
        steps = page.get_by_label("Steps")
        expect(steps).to_contain_text("account:fulmar")
        expect(page.get_by_label("What would follow")).to_contain_text("fulmar")
        page.get_by_label("Comment", exact=True).fill("is it meant?")
        page.get_by_role("button", name="Say it").click()
        expect(page.get_by_label("Comments", exact=True)).to_contain_text("administrator")
        page.get_by_role("button", name="Apply it").click()
        expect(page.get_by_role("heading", name="Journal")).to_be_visible()
        expect(page.get_by_text("apply draft autumn")).to_be_visible()
        assert client.dump() != before and "autumn" not in {d.name for d in client.drafts().drafts}
    expect(banner).to_have_count(0)


def test_an_administrator_is_added_and_signs_in_by_a_link(own_page, browser):
    page = own_page
    page.goto("/administrators")
    page.get_by_role("button", name="Add an administrator").click()
    form = page.get_by_role("dialog")
    form.get_by_label("name").fill("olga")
    form.get_by_role("button", name="Save").click()
    row = page.get_by_label("Administrators", exact=True).locator(".row", has_text="olga")
    expect(row).to_contain_text("reader")
    row.get_by_role("button", name="Sign-in link").click()
    link = page.get_by_label("Link").input_value()
    hers = browser.new_page(base_url=page.service.url)
    hers.goto(link)
    expect(hers.get_by_text("olga, reader")).to_be_visible()
    hers.goto("/accounts/ines")
    hers.get_by_role("button", name="Edit").click()
    hers.get_by_label("note").fill("on leave")
    hers.get_by_role("button", name="Save").click()
    expect(hers.get_by_role("alert")).to_contain_text("this takes the role editor")
    hers.close()


def test_a_refused_client_is_seen_as_it_comes_and_its_line_opens_why(own_page, tmp_path):
    page = own_page
    page.goto("/rehearsal")
    expect(page.get_by_text("Nothing has been tried yet")).to_be_visible()
    with page.service.client() as client, standing(None, tmp_path / "r", source=OfService(client)) as there:
        client.set_password("ines")
        ftp = there.ftp("ines")
        with pytest.raises(ftplib.error_perm):
            ftp.storbinary("STOR /charts/issued/x.pdf", io.BytesIO(b"x"))
        ftp.nlst("/charts")
        page.get_by_role("button", name="Why ines upload /charts/issued/x.pdf").click()
        told = page.get_by_role("region", name="Why")
        expect(told).to_contain_text("Refused by the folder gate")
        expect(told).to_contain_text("May ines upload /charts/issued/x.pdf through harbour?")
        expect(page.get_by_text("drawknife why ines upload /charts/issued/x.pdf --endpoint harbour")).to_be_visible()
        expect(page.get_by_role("button", name="Why ines list /charts")).to_be_visible()
        page.get_by_role("combobox", name="Verdict").click()
        page.get_by_role("option", name="refused", exact=True).click()
        expect(page.get_by_role("button", name="Why ines list /charts")).to_have_count(0)
        expect(page).to_have_url(re.compile(r"verdict=refused"))
        # What comes later is there without anything being done; what was opened stays open.
        with pytest.raises(ftplib.error_perm):
            there.ftp("odile", password="wrong")
        expect(page.get_by_role("button", name="Why odile sign-in harbour")).to_be_visible()
        expect(told).to_be_visible()


def test_a_trial_is_kept_and_a_change_that_turns_it_is_told_before_it_is_made(own_page):
    page = own_page
    page.goto("/trials")
    page.get_by_role("button", name="Add trial").click()
    form = page.get_by_role("dialog")
    form.get_by_label("name").fill("the lab puts drafts")
    form.get_by_label("as", exact=True).fill("ines")
    form.get_by_label("steps").fill("upload /charts/drafts/x: yes\nlist /charts: yes")
    form.get_by_role("button", name="Save").click()
    row = page.get_by_label("Trials", exact=True).locator(".row", has_text="the lab puts drafts")
    expect(row).to_contain_text("2 steps, all as expected")
    with page.service.client() as client:
        shut = {
            "op": "change",
            "kind": "folder",
            "name": "survey:/charts/drafts",
            "add": {"entries": ["deny account:ines upload"]},
        }
        client.add_to_draft("night", [shut])
        page.goto("/drafts/night")
        expect(page.get_by_role("main")).to_contain_text("trial the lab puts drafts, as ines")
        client.change([shut])
    page.goto("/trials")
    expect(row).to_contain_text("1 of 2 steps not as expected")
    expect(row).to_contain_text("expected yes: ines may not upload in survey:/charts/drafts")
    page.goto("/")
    page.get_by_text("trial the lab puts drafts, as ines").click()
    expect(page).to_have_url(re.compile("/trials$"))
