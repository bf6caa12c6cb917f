"""A report is made, gone through, and comes back as a draft; an account is handed over to a
directory.
"""

import json
from datetime import timedelta

from playwright.sync_api import expect

from drawknife.records import reports
from drawknife.records.database import Database


def test_a_report_is_made_from_a_folder_and_what_is_to_go_comes_back_as_a_draft(own_page):
    page = own_page
    page.goto("/stores?place=survey%3A%2Finbox")
    page.get_by_role("link", name="Report to sign").click()
    expect(page.get_by_role("combobox", name="About")).to_have_value("survey:/inbox")
    page.get_by_role("button", name="Make a report").click()
    expect(page.get_by_role("heading", name="Who can get at survey:/inbox")).to_be_visible()
    expect(page.get_by_role("table", name="Rows").or_(page.get_by_label("Rows"))).to_contain_text(
        "odile"
    )
    for called, begins in (("PDF", b"%PDF"), ("Workbook", b"PK"), ("Page", b"<!doctype html>")):
        with page.expect_download() as download:
            page.get_by_role("link", name=called, exact=True).click()
        assert download.value.path().read_bytes().startswith(begins)
    with page.service.client() as client:
        rows = client.report(1).rows
    odile = next(r.number for r in rows if r.accounts == ["odile"])
    decided = [
        {"row": r.number, "decision": "take away" if r.number == odile else "keep"}
        for r in rows
        if r.to_decide
    ]
    saved = {
        "name": "report-1-decided.json",
        "mimeType": "application/json",
        "buffer": json.dumps({"report": 1, "decided": decided}).encode(),
    }
    page.locator("input[type=file]").set_input_files(saved)
    page.get_by_role("button", name="Sign report").click()
    expect(page.get_by_text("signed by administrator")).to_be_visible()
    page.get_by_role("link", name="what is to go is in the draft report-1").click()
    expect(page.get_by_text("deny account:odile all").first).to_be_visible()
    page.goto("/reports")
    expect(page.get_by_text("● ").get_by_text("administrator")).to_be_visible()


def test_the_page_of_a_report_saves_what_is_decided(own_page, tmp_path):
    page = own_page
    with page.service.client() as client:
        number = client.make_report("survey:/inbox").number
        (tmp_path / "report.html").write_bytes(client.report_document(number, "html"))
        page.goto(f"file://{tmp_path / 'report.html'}")
        page.get_by_role("group", name="row 2").get_by_label("remove").check()
        page.get_by_label("remark on row 2").fill("left the crew")
        with page.expect_download() as download:
            page.get_by_role("button", name="Save what is decided").click()
        done = client.sign_report(number, download.value.path().read_bytes())
        assert (
            done.report.signed.taken_away == [2] and done.report.signed.draft == f"report-{number}"
        )


def test_what_is_here_already_is_handed_over_after_a_look(own_page):
    page = own_page
    with page.service.client() as client:
        alone = client.preview_sync("bureau").report.left_alone
        name = next((line.split()[1] for line in alone if line.startswith("account ")), None)
    assert name, alone
    page.goto("/directories?preview=bureau")
    page.get_by_role("button", name=f"Hand over account {name}").click()
    expect(
        page.get_by_text("accounts adopted").or_(page.get_by_text("account adopted"))
    ).to_be_visible()
    page.get_by_role("button", name="Apply first sync").click()
    expect(page.get_by_role("region", name="Directory bureau")).to_contain_text("● synced")
    expect(page.get_by_role("grid", name="Directories")).to_contain_text("● synced")
    with page.service.client() as client:
        assert client.account_detail(name).source == "bureau"


def test_somebody_without_an_account_signs_by_a_link(own_page, browser):
    service = own_page.service
    with service.client() as client:
        report = client.make_report("survey:/inbox")
    records = Database(service.address)
    records.open()
    code = reports.add_link(
        records, report.number, "edda@tidewrack.example", "administrator", timedelta(days=1)
    )
    records.close()
    page = browser.new_context(
        base_url=service.url, viewport={"width": 390, "height": 800}
    ).new_page()
    wrong = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.goto(f"/review#{code}")
    expect(page.get_by_role("heading", name=report.title)).to_be_visible()
    page.get_by_role("group", name="row 2").get_by_label("remove").check()
    page.get_by_label("remark on row 2").fill("left the crew")
    asked = []
    page.on("dialog", lambda dialog: (asked.append(dialog.message), dialog.accept()))
    page.get_by_role("button", name="Sign the report").click()
    expect(page.get_by_role("status")).to_contain_text("Signed: 0 kept, 1 to remove")
    assert "rows have no decision" in asked[0] and wrong == []
    page.reload()
    expect(page.get_by_role("alert")).to_contain_text("This link was used")
    expect(page.get_by_role("button")).to_be_hidden()
    own_page.goto(f"/reports/{report.number}")
    expect(
        own_page.get_by_text(
            "signed by edda@tidewrack.example, through a link that administrator sent"
        )
    ).to_be_visible()
    expect(own_page.get_by_label("Rows")).to_contain_text("left the crew")
    with own_page.expect_download() as download:
        own_page.get_by_role("link", name="the document that came back").click()
    assert json.loads(download.value.path().read_text())["decided"][0]["remark"] == "left the crew"
    own_page.goto("/drafts/" + f"report-{report.number}")
    expect(own_page.get_by_text("removed by edda@tidewrack.example; left the crew")).to_be_visible()


def test_a_link_that_cannot_be_mailed_says_why(own_page):
    page = own_page
    with page.service.client() as client:
        number = client.make_report("group:boats").number
    page.goto(f"/reports/{number}")
    page.get_by_label("Send a link to sign").fill("edda@tidewrack.example")
    page.get_by_role("button", name="Send link").click()
    expect(page.get_by_role("alert")).to_contain_text("no mail can be sent")
