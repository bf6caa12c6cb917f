"""The console in headless Chromium, on the demo."""

import re

from playwright.sync_api import expect

from ..conftest import DEMO, serving


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


def test_the_link_of_the_first_start_signs_in_once_and_is_in_no_log(browser, own_page, tmp_path):
    service = own_page.service
    file = tmp_path / "sign-in-link"
    link = file.read_text().strip()
    assert file.stat().st_mode & 0o777 == 0o600 and link.startswith(service.url + "/sign-in#dk_")
    assert link.rpartition("#")[2] not in "".join(service.said) and str(file) in "".join(
        service.said
    )
    page = browser.new_page(base_url=service.url)
    page.goto(link)
    expect(page.get_by_role("heading", name="Overview")).to_be_visible()
    page.get_by_label("Sign out").click()
    expect(page.get_by_label("Token")).to_be_visible()
    page.goto("/")
    page.goto(link)
    expect(page.get_by_text("a link signs in once")).to_be_visible()
    page.close()


def test_the_overview_tells_what_needs_attention(page):
    section = page.get_by_label("Needs attention")
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
    expect(why.locator('[data-fate="overruled"]')).to_contain_text(
        "overruled by a deny on its level"
    )
    page.reload()
    expect(page.get_by_label("Why", exact=True)).to_contain_text("Refused by the folder gate")
    page.get_by_label("Why", exact=True).get_by_role(
        "link", name="survey:/soundings", exact=True
    ).first.click()
    expect(page.get_by_label("Entries")).to_contain_text(
        "deny group:night-watch delete-file,delete-folder"
    )


def test_cells_are_moved_between_with_the_arrow_keys(page):
    page.goto("/accounts/ines")
    page.get_by_role("button", name="enter at /charts/exchange: yes", exact=True).focus()
    for _ in range(4):
        page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Why", exact=True)).to_contain_text(
        "Allowed — but not for what others own"
    )
    expect(page.get_by_label("Why", exact=True)).to_contain_text(
        "allow owner overwrite,rename,delete-file"
    )


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
    expect(page.get_by_label("Standing", exact=True)).to_contain_text(
        "group:dredge-liaison › group:north-bank"
    )
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
    page.get_by_role("combobox", name="Levels below").fill("1")
    expect(page.get_by_text("19 accounts by 9 locations")).to_be_visible()
    page.get_by_role("combobox", name="In group").fill("boats")
    expect(page.get_by_text("4 accounts by 9 locations")).to_be_visible()
    expect(page).to_have_url(re.compile("group=boats"))
    page.get_by_role("combobox", name="In group").fill("nobody")
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
    document = "drawknife: 1\naccounts:\n" + "".join(
        f"- name: boat-{i:05}\n" for i in range(10_000)
    )
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
        expect(grid.get_by_role("row")).not_to_have_count(10)
        grid.focus()
        for _ in range(4):
            page.keyboard.press("PageDown")
        expect(grid.get_by_text("boat-00060", exact=True)).to_be_visible()
        page.close()


def test_an_account_against_itself_in_a_model_file(page, tmp_path):

    mended = tmp_path / "mended.yaml"
    turnstone = "  - path: /inbox/turnstone\n    owner: turnstone\n"
    assert turnstone in DEMO.read_text()
    mended.write_text(
        DEMO.read_text().replace(
            turnstone, turnstone + "    entries: [allow account:turnstone add]\n"
        )
    )
    page.goto("/compare")
    page.get_by_role("combobox", name="One account").fill("turnstone")
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
    page.get_by_role("link", name=re.compile("^Who can make-folder here")).first.click()
    expect(page).to_have_url(re.compile(r"/who\?right=make-folder&at=survey"))
    expect(page.get_by_role("main")).to_contain_text("odile")
    page.goto("/stores?place=nowhere:/x")
    expect(page.get_by_role("alert")).to_contain_text("there is no store 'nowhere'")


def test_who_lacks_it_by_one_gate_only(page):
    page.goto("/who")
    page.get_by_role("combobox", name="At", exact=True).fill("survey:/inbox/turnstone")
    page.get_by_role("combobox", name="Right").click()
    page.get_by_role("option", name="upload").click()
    page.get_by_role("combobox", name="But for the gate").click()
    page.get_by_role("option", name="folder").click()
    page.get_by_role("button", name="Show").click()
    expect(page.get_by_role("main")).to_contain_text("deny group:boats all below")


def test_endpoints_journal_and_pages_that_are_not_there(page):
    page.goto("/endpoints")
    expect(page.get_by_role("main")).to_contain_text(
        "port of harbour and port of old-quay both take 2121"
    )
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
        expect(page.get_by_label("A first server")).to_be_visible()
        page.get_by_role("link", name="Endpoints", exact=True).click()
        expect(page.get_by_text("There are no endpoints yet")).to_be_visible()
        service.process.terminate()
        service.process.wait()
        page.get_by_role("link", name="Journal").click()
        expect(page.get_by_role("alert")).to_contain_text("The service does not answer")
        expect(page.get_by_role("button", name="Try again")).to_be_visible()
        page.close()


def test_what_an_account_would_lose_outside_of_a_group(page):
    page.goto("/groups")
    page.get_by_role("link", name=re.compile("^soundings-readers")).click()
    members = page.get_by_label("Members")
    expect(members).to_contain_text("group:dredge-liaison › group:north-bank")
    members.locator(".row", has_text="harrow-dredging").get_by_role(
        "button", name="without it?"
    ).click()
    expect(page.get_by_label("What it would lose")).to_contain_text("− loses enter, list, download")
    page.goto("/groups?show=units")
    page.get_by_role("link", name=re.compile("inshore")).click()
    expect(page.get_by_label("What comes down from it", exact=True)).to_contain_text(
        "unit:fleet › group:boats"
    )


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
    expect(form).to_contain_text(
        "port 2121 leads to harbour, and the passive range 40000-40099 does not"
    )
