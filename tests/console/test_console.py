"""What people do with the console, by clicking: each question that it answers, end to end."""

from __future__ import annotations

import os
import re
import signal
import subprocess
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import psycopg
from playwright.sync_api import expect

from tests.console.conftest import Desk, asked
from tests.support import System

Opens = Callable[..., Desk]


@contextmanager
def halted(system: System, name: str) -> Iterator[None]:
    """A process that is held still for the time of the block."""
    child = next(c for c in system.supervisor.children if c.name == name)
    assert child.process is not None
    os.kill(child.process.pid, signal.SIGSTOP)
    try:
        yield
    finally:
        os.kill(child.process.pid, signal.SIGCONT)


def test_a_machine_is_looked_at_planned_and_captured_live(desk: Opens, demo: System) -> None:
    mara = desk("mara")
    page = mara.page
    page.get_by_role("link", name="Machines").click()
    page.get_by_role("link", name="gauge-seed-01").click()
    mara.says("gauge-seed-01 can be captured while it runs")
    page.get_by_role("button", name="Plan, path by path").click()
    expect(page.get_by_text("changes on the copy")).to_be_visible()
    expect(page.get_by_role("region", name="Changes")).to_contain_text("/etc/machine-id")
    page.go_back()
    page.get_by_label("Profile", exact=True).select_option("one from a file")
    expect(page.get_by_role("button", name="Capture it")).to_be_disabled()
    for text, told in (("name: [pilots", "line 1"), ("name: pilots\nextends: linux\n", "The profile pilots.")):
        file = {"name": "pilots.yaml", "mimeType": "text/yaml", "buffer": text.encode()}
        page.get_by_label("File of the profile").set_input_files(file)  # type: ignore[arg-type]
        expect(page.get_by_text(told)).to_be_visible()
    expect(page.get_by_role("button", name="Capture it")).to_be_enabled()
    page.get_by_label("Into the line").select_option("pilot-desk")
    with halted(demo, "worker"):
        page.get_by_role("button", name="Capture it").click()
        mara.says("Capture of pilot-desk@1.1.0 waits for a worker.")
        page.get_by_role("button", name="Cancel it").click()
        expect(page.get_by_text("It is being cancelled")).to_be_visible()
    mara.says("was cancelled")
    page.get_by_role("button", name="Run it again").click()
    mara.says("succeeded in")
    expect(page.get_by_label("Log")).to_contain_text("The guest was frozen")
    page.get_by_role("link", name="pilot-desk@1.1.0").first.click()
    mara.says("pilot-desk@1.1.0 is staged")
    page.get_by_role("button", name="Release it").click()
    with asked(page):
        page.get_by_role("dialog").get_by_role("button", name="Release it").click()
    mara.says("pilot-desk@1.1.0 is released")


def test_a_sheet_is_mended_run_and_paused(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.open("/sheets")
    page.get_by_role("link", name="gauge-charts").first.click()
    mara.says("gauge-charts makes versions of gauge-logger from gauge-collector; it runs when somebody asks.")
    page.get_by_role("button", name="Change it").click()
    text = page.get_by_label("Text", exact=True)
    mended = text.input_value().replace("tide-chart-tools", "chart-tools")
    text.fill(mended.replace("install-packages", "instal-packages"))
    expect(page.get_by_text("Line 6, column 5: There is no 'instal-packages'")).to_be_visible()
    expect(page.get_by_role("button", name="Save it")).to_be_disabled()
    text.fill(mended)
    page.get_by_label("Note").fill("It was renamed.")
    with asked(page):
        page.get_by_role("button", name="Save it").click()
    page.get_by_role("button", name="What changed in text 2").click()
    expect(page.get_by_role("region", name="Difference")).to_contain_text("packages: [chart-tools]}")
    page.get_by_role("button", name="Run it now").click()
    expect(page.get_by_role("dialog")).to_contain_text("from gauge-collector@")
    with asked(page):
        page.get_by_role("button", name="Run it", exact=True).click()
    mara.says("succeeded")
    page = mara.open("/sheets/gauge-logging")
    page.get_by_role("button", name="Pause it").click()
    mara.says("it is paused.")
    page.get_by_role("button", name="Let it run by itself again").click()
    mara.says("after a release of its base.")


def test_a_sheet_gets_a_file_and_the_newest_text_of_its_part(desk: Opens, demo: System, tmp_path: Path) -> None:
    with demo.core as client:
        sheet, part = client.saved_sheet("gauge-logging"), client.saved_sheet("welcome")
        text = sheet.text.replace("sheet: gauge-logging", "sheet: tidings").replace(
            "{file: welcome.yaml}", "{saved: newest}"
        )
        client.save_sheet("tidings", text, values=sheet.values, payload=sheet.files)
        client.save_sheet("welcome", f"{part.text}# newer\n")
    mara = desk("mara")
    page = mara.open("/sheets/tidings")
    page.get_by_role("button", name="Take text 2 of welcome").click()
    with asked(page):
        page.get_by_role("button", name="Take it").click()
    expect(page.get_by_role("region", name="Text of the sheet")).to_contain_text("# newer")
    page.get_by_role("button", name="Change it").click()
    page.get_by_label("File settings").set_input_files(
        {"name": "logger.conf", "mimeType": "text/plain", "buffer": b"interval = 5\n"}
    )
    with asked(page):
        page.get_by_role("button", name="Save it").click()
    expect(page.get_by_text("13 B, sha256:")).to_be_visible()
    with demo.core as client:
        assert client.saved_sheet("tidings").number == 3 and client.plan_sheet_run("tidings").blockers == []


def test_first_boot_writes_a_secret(desk: Opens, demo: System) -> None:
    page = desk("mara").open("/people?show=first-boot")
    page.get_by_role("button", name="Save settings").click()
    page.get_by_label("Name", exact=True).fill("licensed")
    page.get_by_role("button", name="Write a secret to a file").click()
    page.get_by_label("Path").fill("/etc/tide/licence")
    with asked(page):
        page.get_by_role("button", name="Save them").click()
    expect(page.get_by_role("row", name=re.compile("^licensed"))).to_contain_text("logger-licence")
    with demo.core as client:
        [kept] = [s.settings for s in client.saved_first_boot() if s.name == "licensed"]
    assert [(file.secret, file.path) for file in kept.secrets] == [("logger-licence", "/etc/tide/licence")]


def test_a_repository_is_connected_and_a_push_is_seen(desk: Opens, demo: System, tmp_path: Path) -> None:
    mara = desk("mara")
    page = mara.open("/sheets")
    page.get_by_role("button", name="Connect a repository").click()
    page.get_by_label("Name", exact=True).fill("copy")
    page.get_by_label("Address").fill("https://git.tide.example/images")
    page.get_by_role("button", name="Connect it").click()
    expect(page.get_by_role("dialog")).to_contain_text("Repositories of git.tide.example may not be read.")
    page.get_by_role("button", name="Close").click()
    work = tmp_path / "office"
    subprocess.run(["git", "clone", "--quiet", demo.repository, work], check=True)
    (work / "sheets/README.md").write_text("Sheets of the quays.\n")
    subprocess.run(["git", "-C", work, "add", "--all"], check=True)
    author = ["-c", "user.name=teo", "-c", "user.email=teo@tide.example"]
    subprocess.run(["git", "-C", work, *author, "commit", "--quiet", "-m", "A word about the quays"], check=True)
    subprocess.run(["git", "-C", work, "push", "--quiet"], check=True)
    page.get_by_role("button", name="Read office").click()
    row = page.get_by_role("row", name=re.compile("^office"))
    expect(row).to_contain_text("A word about the quays")
    row.get_by_role("link", name="gauge-panel").click()
    mara.says("it runs after a push that changes it.")
    expect(page.get_by_text("It comes from the repository office: change it there.")).to_be_visible()


def test_findings_forbid_a_release_until_each_is_accepted(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.page
    page.get_by_role("link", name=re.compile("Look at them: 2 findings.*gauge-collector")).click()
    mara.says("gauge-collector@1.4.0 is staged; 2 findings of high severity are open.")
    for left in (1, 0):
        page.get_by_role("button", name=re.compile("^Accept .*upload.env")).first.click()
        with asked(page):
            page.get_by_label("Reason").fill("The token of the sample, without a use.")
            page.get_by_role("button", name="Accept it").click()
        mara.says("1 finding of high severity is open" if left else "gauge-collector@1.4.0 is staged.")
    expect(page.get_by_role("button", name="Release it")).to_be_visible()


def test_a_share_comes_to_the_other_account_while_it_looks(desk: Opens) -> None:
    juro, mara = desk("juro"), desk("mara")
    juro.open("/people?show=shares")
    expect(juro.page.get_by_role("region", name="Shares in")).to_contain_text("tide-core/surge-model")
    page = mara.open("/lines/gauge-collector")
    page.get_by_role("button", name="Share it").click()
    with asked(page):
        page.get_by_label("Account").fill("chart-house")
        page.get_by_label("Note").fill("for the charts")
        page.get_by_role("button", name="Offer it").click()
    row = juro.page.get_by_role("row").filter(has_text="tide-core/gauge-collector")
    expect(row).to_contain_text("proposed")  # it came by itself
    row.get_by_role("button", name="Accept gauge-collector").click()
    with asked(juro.page):
        juro.page.get_by_role("dialog").get_by_role("button", name="Accept").click()
    expect(row).to_contain_text("active")
    expect(page.get_by_text("Shared with chart-house and harbour-watch.")).to_be_visible()
    juro.open("/lines")
    expect(juro.page.get_by_role("link", name="tide-core/gauge-collector@1.3.0")).to_be_visible()


def test_a_launch_is_refused_by_a_rule_and_admitted_by_an_exception(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.open("/versions/surge-model@2.0.0")
    page.get_by_role("button", name="Copy it to other regions").click()
    with asked(page):
        page.get_by_label("fjord-2").uncheck()
        page.get_by_role("button", name="Copy it").click()
    mara.says("succeeded")
    page = mara.open("/launch?of=surge-model@2.0.0")
    page.get_by_label("Region").select_option("lagoon-3")
    page.get_by_label("Names").fill("storm-{n}")
    what = page.get_by_label("What it would do")
    expect(what).to_contain_text("surge-stays-north refuses it")
    expect(page.get_by_role("button", name="Launch it")).to_be_disabled()
    page = mara.open("/people?show=rules")
    page.get_by_role("button", name="Except something from surge-stays-north").click()
    with asked(page):
        page.get_by_label("Name of the exception").fill("storm-week")
        page.get_by_label("Reason").fill("The storm comes from the south.")
        page.get_by_role("button", name="Make it").click()
    page = mara.open("/launch?of=surge-model@2.0.0")
    page.get_by_label("Region").select_option("lagoon-3")
    page.get_by_label("Names").fill("storm-{n}")
    expect(what).to_contain_text("admits it by an exception")
    page.get_by_role("button", name="Launch it").click()
    mara.says("Launch of surge-model@2.0.0 succeeded")
    page.get_by_role("link", name="storm-1").click()
    mara.says("storm-1 runs surge-model@2.0.0 in lagoon-3")
    page.get_by_role("button", name="Terminate it").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_role("button", name="Terminate it")).to_be_disabled()
    with asked(page):
        page.get_by_label("Type storm-1 to confirm").fill("storm-1")
        dialog.get_by_role("button", name="Terminate it").click()
    mara.says("storm-1 is gone")


def test_a_version_is_written_to_a_bucket_and_the_trail_is_checked(desk: Opens, demo: System) -> None:
    mara = desk("mara")
    page = mara.open("/versions/gauge-collector@1.3.0")
    page.get_by_role("button", name="Take it out as a file").click()
    with asked(page):
        page.get_by_label("Where to").select_option("the bucket halvane-images")
        page.get_by_label("Format").select_option("VHDX")
        expect(page.get_by_label("Name in the bucket")).to_have_value("gauge-collector-1.3.0.vhdx")
        page.get_by_role("button", name="Write the file").click()
    mara.says("succeeded")
    assert demo.from_bucket("s3://halvane-images/gauge-collector-1.3.0.vhdx")[:8] == b"vhdxfile"
    page = mara.open("/ledger")
    page.get_by_role("button", name="Check the chain").click()
    expect(page.get_by_text("The trail is whole")).to_be_visible()


def test_a_retirement_is_blocked_by_a_mark_and_then_done(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.open("/lines/gauge-collector")
    page.get_by_role("button", name="Set a mark").click()
    with asked(page):
        page.get_by_label("Mark", exact=True).fill("old")
        page.get_by_label("Version", exact=True).select_option("1.1.0")
        page.get_by_role("button", name="Set the mark").click()
    page = mara.open("/versions/gauge-collector@1.1.0")
    verbs = page.get_by_label("What you can do")
    expect(verbs).to_contain_text("The mark old points to it.")
    expect(verbs.get_by_role("button", name="Retire it")).to_have_count(0)
    verbs.get_by_role("button", name="Move the mark").click()
    with asked(page):
        page.get_by_label("To version").select_option("1.3.0")
        page.get_by_role("button", name="Move it").click()
    verbs.get_by_role("button", name="Retire it").click()
    with asked(page):
        expect(page.get_by_role("dialog")).to_contain_text("New launches of gauge-collector@1.1.0 are refused")
        page.get_by_role("dialog").get_by_role("button", name="Retire it").click()
    mara.says("gauge-collector@1.1.0 is retired")
    mara.open("/calendar")
    expect(page.get_by_role("row").filter(has_text="gauge-collector@1.1.0")).to_contain_text("retired")


def test_a_package_is_found_in_what_runs(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.page
    page.keyboard.press("/")
    page.get_by_placeholder("A line, a version").fill("openssl")
    page.get_by_text("What carries the package “openssl”?").click()
    mara.says("running instances of")
    rows = page.get_by_role("region", name="Versions that carry it").get_by_role("row")
    expect(rows.filter(has_text="gauge-collector@1.3.0")).to_contain_text("openssl")
    page.get_by_label("Below version").fill("0.1")
    page.get_by_role("button", name="Find it").click()
    mara.says("0 running instances of 0 versions carry openssl below 0.1.")
    assert "below=0.1" in page.url, "the address says what was asked"


def test_somebody_is_invited_joins_and_may_only_look(desk: Opens) -> None:
    mara, guest = desk("mara"), desk()
    page = mara.open("/people")
    page.get_by_role("button", name="Invite somebody").click()
    page.get_by_label("Name").fill("edda")
    page.get_by_role("button", name="Invite", exact=True).click()
    address = page.get_by_role("dialog").locator("code").text_content() or ""
    guest.page.goto(address)
    guest.page.get_by_label("New password").fill("nine grey herons wade")
    guest.page.get_by_role("button", name="Set the password").click()
    guest.says("Welcome, edda.")
    guest.sign_in("edda", "nine grey herons wade")
    guest.open("/versions/gauge-collector@1.3.0")
    verbs = guest.page.get_by_label("What you can do")
    expect(verbs).to_contain_text("edda is viewer in tide-core; this needs operator.")
    expect(verbs.get_by_role("button")).to_have_count(0)
    guest.page.get_by_text("as edda").click()
    guest.page.get_by_role("button", name="Change password").click()
    dialog = guest.page.get_by_role("dialog")
    for old in ("not it at all", "nine grey herons wade"):
        dialog.get_by_label("Old password").fill(old)
        dialog.get_by_label("New password").fill("ten red knots feed")
        dialog.get_by_role("button", name="Change it").click()
        if old == "not it at all":
            expect(dialog).to_contain_text("The old password is wrong.")
    expect(dialog).to_have_count(0)
    guest.sign_in("edda", "ten red knots feed")
    page.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="New invitation for edda").click()
    page.get_by_role("dialog").get_by_role("button", name="Make it").click()
    guest.page.goto(page.get_by_role("dialog").locator("code").text_content() or "")
    guest.page.get_by_label("New password").fill("nine grey herons wade")
    guest.page.get_by_role("button", name="Set the password").click()
    guest.says("Welcome, edda.")
    guest.sign_in("edda", "nine grey herons wade")
    page.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="Remove edda").click()
    with asked(page):
        page.get_by_role("dialog").get_by_role("button", name="Remove").click()
    guest.page.reload()
    expect(guest.page.get_by_text("You are a member of no account yet.")).to_be_visible()


def test_who_is_here_already_is_asked_before_becoming_a_member(desk: Opens) -> None:
    juro, finn = desk("juro"), desk("finn")
    page = juro.open("/people")
    page.get_by_role("button", name="Invite somebody").click()
    page.get_by_label("Name").fill("finn")
    page.get_by_role("button", name="Invite", exact=True).click()
    expect(page.get_by_role("dialog")).to_contain_text("finn is asked")
    page.get_by_role("button", name="Close").click()
    expect(page.get_by_role("row").filter(has_text="finn")).to_contain_text("has not accepted yet")
    finn.open("/")
    question = finn.page.get_by_role("region", name="Membership of chart-house")
    question.get_by_role("button", name="Accept").click()
    expect(question).to_have_count(0)
    finn.open("/?account=chart-house")
    expect(finn.page.get_by_text("chart-house, as finn")).to_be_visible()


def test_a_session_that_ends_leads_to_the_sign_in_and_back(desk: Opens, demo: System) -> None:
    mara = desk("mara")
    page = mara.open("/lines/gauge-collector")
    mara.says("gauge-collector 1.3.0")
    with psycopg.connect(demo.postgres.url("bathotype"), autocommit=True) as database:
        database.execute("delete from console_sessions")
    with demo.core as client:
        client.create_line("wakes-the-page")  # what is told of a change asks who reads
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.get_by_label("Name").fill("mara")
    page.get_by_label("Password").fill(demo.secrets["people"]["mara"])
    page.get_by_role("button", name="Sign in").click()
    mara.says("gauge-collector 1.3.0")


def test_an_open_page_outlives_the_service(desk: Opens, demo: System) -> None:
    mara = desk("mara")
    page = mara.open("/lines")
    expect(page.get_by_role("link", name="gauge-collector")).to_be_visible()
    demo.kill("serve")
    expect(page.get_by_text("The service does not answer.")).to_be_visible()
    demo.revive()
    expect(page.get_by_text("The service does not answer.")).to_be_hidden(timeout=30_000)
    with demo.core as client:
        client.create_line("made-meanwhile")
    expect(page.get_by_role("link", name="made-meanwhile")).to_be_visible()


def test_eight_tabs_share_one_stream(desk: Opens, demo: System) -> None:
    mara = desk("mara")
    tabs = [mara.page, *(mara.tab() for _ in range(7))]
    for tab in tabs:
        tab.goto(f"{demo.url}/lines")
        expect(tab.get_by_role("link", name="gauge-collector")).to_be_visible()
    with demo.core as client:
        client.create_line("seen-by-eight")
    for tab in tabs:
        expect(tab.get_by_role("link", name="seen-by-eight")).to_be_visible()


def test_many_instances_are_switched_off_and_on_again(desk: Opens) -> None:
    mara = desk("mara")
    page = mara.open("/instances?find=pier&sort=name")
    mara.says("4 instances like “pier” are there or coming.")
    page.get_by_label("Choose pier-02").check()
    page.get_by_label("Choose pier-03").check()
    page.get_by_role("button", name="Stop").click()
    with asked(page):
        expect(page.get_by_role("dialog")).to_contain_text("2 instances will be stopped.")
        page.get_by_role("dialog").get_by_role("button", name="Stop").click()
    mara.says("Stop 2 instances succeeded")
    page = mara.open("/instances?find=pier&sort=-name")
    rows = page.get_by_role("table").get_by_role("row")
    expect(rows.nth(1)).to_contain_text("pier-04")
    expect(rows.filter(has_text="stopped")).to_have_count(2)
    page.get_by_role("button", name="state").click()
    expect(page).to_have_url(re.compile("sort=state"))
    expect(rows.nth(4)).to_contain_text("stopped")
    page.get_by_role("button", name="Columns").click()
    page.get_by_role("menuitemcheckbox", name="address").click()
    page.reload()
    expect(rows.first).to_contain_text("region")
    expect(rows.first).not_to_contain_text("address")  # as it was left
    page.get_by_role("button", name="Start").click()
    with asked(page):
        expect(page.get_by_role("dialog")).to_contain_text("2 instances are running already.")
        page.get_by_role("dialog").get_by_role("button", name="Start").click()
    mara.says("Start 2 instances succeeded")
    with page.expect_download() as saved:
        mara.open("/instances?find=pier").get_by_role("button", name="Save as CSV").click()
    assert saved.value.path().read_text().count("pier-0") >= 4
