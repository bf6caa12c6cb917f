"""What is changed in the console, and what is told before."""

import ftplib
import io
import re
from datetime import UTC, datetime, timedelta

import pytest
from playwright.sync_api import expect
from tools.rehearsing import standing

from drawknife.messages import NewCensus
from drawknife.rehearsal.model_source import OfService

from ..conftest import DEMO, until


def test_an_edit_shows_what_follows_before_it_is_saved(own_page):
    page = own_page
    page.goto("/subjects/group%3Asonar-lab")
    expect(page.get_by_label("Whom its settings reach")).to_contain_text(
        "yuki: group:night-watch goes before it"
    )
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
    # Meanwhile somebody else changes something: the save is refused, and what follows is looked at
    # anew.
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
    page.get_by_role("grid", name="Directories").get_by_role("link", name="crew").click()
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
    expect(page.get_by_role("region", name="Directory bureau")).to_be_visible()


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


def test_a_sync_is_shown_first_and_then_done(own_page):
    page = own_page
    page.goto("/directories")
    bureau = page.get_by_label("Directory bureau", exact=True)
    expect(bureau).to_contain_text("never synced")
    bureau.get_by_role("button", name="What would a sync do?").click()
    expect(bureau).to_contain_text("1 account switched off: jonas")
    expect(bureau.get_by_label("What follows")).to_contain_text("jonas")
    bureau.get_by_role("button", name="Apply first sync").click()
    expect(bureau).to_contain_text("● synced: 6 changes")
    page.goto("/accounts/thora")
    expect(page.get_by_role("main")).to_contain_text("Þóra Mánadóttir")


def test_growth_is_drawn_after_censuses(own_page):
    page = own_page
    now = datetime.now(UTC)
    with page.service.client() as client:
        for days in (20, 10, 0):
            rows = [
                {"folder": "/ines", "owner": "ines", "bytes": (400 - 5 * days) * 2**30, "files": 4}
            ]
            client.take_census(
                NewCensus.model_validate(
                    {"store": "homes", "at": now - timedelta(days=days), "rows": rows}
                )
            )
    page.goto("/limits?limit=capacity+homes")
    detail = page.get_by_label("What fills it")
    expect(detail).to_contain_text("bytes: grow by 5 GiB a day; full around")
    expect(detail.locator("svg path.recharts-line-curve")).to_have_count(1)


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
    expect(hers.get_by_role("heading", name="ines")).to_be_visible()
    expect(hers.get_by_role("button", name="Edit")).to_have_count(0)  # that takes the role editor
    hers.close()


def test_a_refused_client_is_seen_as_it_comes_and_its_line_opens_why(own_page, tmp_path):
    page = own_page
    page.goto("/rehearsal")
    expect(page.get_by_text("Nothing has been tried yet")).to_be_visible()
    with (
        page.service.client() as client,
        standing(None, tmp_path / "r", source=OfService(client)) as there,
    ):
        client.set_password("ines")
        ftp = there.ftp("ines")
        with pytest.raises(ftplib.error_perm):
            ftp.storbinary("STOR /charts/issued/x.pdf", io.BytesIO(b"x"))
        ftp.nlst("/charts")
        page.get_by_role("button", name="Why ines upload /charts/issued/x.pdf").click()
        told = page.get_by_role("region", name="Why")
        expect(told).to_contain_text("Refused by the folder gate")
        expect(told).to_contain_text("May ines upload /charts/issued/x.pdf through harbour?")
        expect(
            page.get_by_text("drawknife why ines upload /charts/issued/x.pdf --endpoint harbour")
        ).to_be_visible()
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


def test_where_a_disk_refuses_what_the_server_lets(own_page):
    page = own_page
    page.goto("/stores?place=survey%3A%2F")
    expect(page.get_by_text("The disk of survey was not read")).to_be_visible()
    reading = {
        "store": "survey",
        "confined": True,
        "folders": ["0:0 0755 /", "9:9 0700 /charts/drafts"],
        "users": ["ines 8 8"],
    }
    with page.service.client() as client:
        client.change(
            [
                {"op": "add", "kind": "disk-reading", "item": reading},
                {
                    "op": "change",
                    "kind": "setting",
                    "name": "account:ines",
                    "set": {"acts_as": "ines"},
                },
            ]
        )
    page.goto("/")
    page.get_by_text("the disk of survey refuses what the server lets ines").click()
    expect(page).to_have_url(re.compile(r"/stores\?place=survey%3A%2F$"))
    row = page.get_by_label("The disk").locator(".row", has_text="/charts/drafts")
    expect(row).to_contain_text(
        "the disk refuses enter, list, download, upload, append, make-folder"
    )
    expect(row).to_contain_text(
        "ines (user 8) may not search survey:/charts/drafts: it is 9:9 0700, others have ---"
    )
    page.get_by_label("Filter the disk").fill("delete-folder")
    expect(row).to_have_count(0)
    page.goto("/accounts/ines?why=upload@/charts/drafts")
    expect(page.get_by_role("region", name="Why")).to_contain_text("Refused by the disk gate")
