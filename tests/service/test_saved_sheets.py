"""Saved sheets: their texts and files, and when they run by themselves."""

from __future__ import annotations

import base64
import hashlib
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from bathotype.core.errors import ChangedMeanwhile, Forbidden, Invalid, NotFound, Refused
from bathotype.wire.builds import PayloadGiven
from bathotype.wire.savedsheets import SavedSheetDetails
from tests.office import Office

FILE = b"interval = 30\n"


def text(
    name: str = "logging", base: str = "gauge", line: str = "logger", when: str = "", step: str = "echo hello"
) -> str:
    return f"""\
sheet: {name}
base: {base}
steps:
- {{id: hello, do: run-script, script: {step}}}
result: {{line: {line}, bump: minor}}
{when}"""


SCHEDULE = "when: {schedule: [{days: [tuesday, saturday], at: '02:00'}], zone: Europe/Oslo%s}\n"
AFTER_BASE = "when: {after_base: true}\n"


@pytest.fixture
def office(office: Office) -> Office:
    office.version("gauge@1.0.0")
    with office.core as client:
        client.create_line("logger")
        client.create_line("charts")
    return office


def due(office: Office, name: str, ago: timedelta = timedelta(seconds=1)) -> SavedSheetDetails:
    """Let a sheet's date be past, and take a turn of the duty."""
    office.execute("update saved_sheets set next_at = %s where name = %s", datetime.now(UTC) - ago, name)
    office.upkeep("sheets")
    with office.core as client:
        return client.saved_sheet(name)


def test_each_text_of_a_sheet_is_kept(office: Office, tmp_path: Path) -> None:
    with office.core as client:
        first = client.save_sheet("logging", text(), note="the first")
        assert (first.number, first.line, first.dates, first.next_at) == (1, "logger", [], None)
        assert client.save_sheet("logging", text()).number == 1, "the same is no new text"
        second = client.save_sheet("logging", text(step="echo again"), revision=first.revision)
        assert second.number == 2 and [t.note for t in second.texts] == ["", "the first"]
        with pytest.raises(ChangedMeanwhile):
            client.save_sheet("logging", text(step="echo third"), revision=first.revision)
        changed = [line for line in client.sheet_difference("logging").lines if line[:1] in "+-"][2:]
        assert [line.partition("echo ")[2] for line in changed] == ["hello}", "again}"]
        assert "echo hello" in client.saved_sheet("logging", number=1).text
        for wrong, told in ((text(name="other"), "calls itself other"), ("sheet: logging\n", "not valid")):
            with pytest.raises(Invalid, match=told):
                client.save_sheet("logging", wrong)
        client.drop_sheet("logging")
        with pytest.raises(NotFound):
            client.saved_sheet("logging")
        actions = [e.action for e in client.events(subject="logging")]
    assert actions == ["sheet.removed", "sheet.saved", "sheet.saved"]


PART = """\
part: chatter
parameters: {loudness: {type: number, allowed: [1, 2]}}
payload: {conf: {file: logger.conf}}
steps:
- {id: conf, do: put-file, payload: conf, to: "/etc/logger{loudness}.conf"}
"""


def with_part(saved: object = "newest", loudness: int = 1) -> str:
    include = f"- {{id: loud, do: include, part: chatter, values: {{loudness: {loudness}}}}}\nresult:"
    return text().replace("steps:\n", f"parts: {{chatter: {{saved: {saved}}}}}\nsteps:\n").replace("result:", include)


def test_a_saved_part_is_in_the_sheets_that_include_it(office: Office, tmp_path: Path) -> None:
    files = {}
    with office.core as client:
        for number, data in ((1, FILE), (2, b"interval = 5\n")):
            (tmp_path / "logger.conf").write_bytes(data)
            upload = client.upload(tmp_path / "logger.conf", region="skerry-1").id
            files[number] = PayloadGiven(upload=upload, bytes=len(data), sha256=hashlib.sha256(data).hexdigest())
        with pytest.raises(NotFound, match="no saved part 'chatter'"):
            client.save_sheet("logging", with_part())
        told = [fault.message for fault in client.check_sheet(with_part()).faults]
        assert told == ["There is no saved part 'chatter'.", "The part chatter is not with the sheet."]
        assert client.save_sheet("chatter", PART, payload={"conf": files[1]}, note="quiet").kind == "part"
        assert [step.id for step in client.check_sheet(with_part()).steps] == ["hello", "loud-conf"]
        sheet = client.save_sheet("logging", with_part())
        assert sheet.text == f"{with_part()}---\n{PART}" and sheet.files == {"loud-conf": files[1]}
        assert client.save_sheet("chatter", PART + "# louder\n", payload={"conf": files[2]}).number == 2
        assert [(p.name, p.number, p.newest) for p in client.saved_sheet("logging").parts] == [("chatter", 1, 2)]
        plan = client.plan_build(with_part(), bump="minor")
        assert [step.id for step in plan.steps] == ["hello", "loud-conf"] and not plan.blockers
        run = client.build(with_part())
        [(params,)] = office.query("select params from operations where id = %s", run.id)
        assert params["payload"]["loud-conf"]["sha256"] == files[2].sha256 and "# louder" in params["sheet"]
        client.cancel(run.id)
        again = client.save_sheet("logging", sheet.text)
        assert again.number == 1, "a sheet that has a part's text keeps that one"
        newer = client.save_sheet("logging", with_part())
        assert newer.number == 2 and newer.files == {"loud-conf": files[2]}
        pinned = client.save_sheet("logging", with_part(saved=1))
        assert pinned.files == {"loud-conf": files[1]}
        assert [s.name for s in client.saved_sheets()] == ["logging"]
        assert [s.name for s in client.saved_sheets(kind="part")] == ["chatter"]
        client.save_sheet("logging", sheet.text, payload=sheet.files)
        kept = client.save_sheet("logging", sheet.text, payload=sheet.files, newest_parts=["chatter"])
        assert (kept.text, kept.files) == (newer.text, newer.files), "the newest text of a part, when it is asked for"
        with pytest.raises(Invalid, match="includes no part 'chater'"):
            client.save_sheet("logging", sheet.text, payload=sheet.files, newest_parts=["chater"])


def test_parts_and_sheets_are_not_mistaken_for_each_other(office: Office, tmp_path: Path) -> None:
    part = PART.replace("payload: {conf: {file: logger.conf}}\n", "").replace("payload: conf", "content: x")
    with office.core as client:
        client.save_sheet("chatter", part)
        with pytest.raises(Refused, match="is a part"):
            client.run_sheet("chatter")
        with pytest.raises(Refused, match="is a part"):
            client.pause_sheet("chatter")
        with pytest.raises(Refused, match="is a part that is saved already"):
            client.save_sheet("chatter", text(name="chatter"))
        with pytest.raises(Invalid, match="3 is not one of 1, 2"):
            client.save_sheet("logging", with_part(loudness=3))
        with pytest.raises(NotFound, match="has no text 7"):
            client.save_sheet("logging", with_part(saved=7))
        with pytest.raises(Invalid, match="none of its saved texts"):
            client.save_sheet("logging", f"{with_part()}---\n{part.replace('content: x', 'content: y')}")
        with pytest.raises(Invalid, match="part is not valid"):
            client.save_sheet("chatter", part.replace("put-file", "put-fyle"))
        client.save_sheet("logging", with_part())
        client.drop_sheet("chatter")
        kept = client.saved_sheet("logging")
        assert [(p.number, p.newest) for p in kept.parts] == [(None, None)] and "part: chatter" in kept.text
        assert client.plan_sheet_run("logging").blockers == []


def test_a_saved_sheets_files_stay_and_stay_the_same(office: Office, tmp_path: Path) -> None:
    (tmp_path / "logger.conf").write_bytes(FILE)
    sheet = text(step="echo x").replace("steps:\n", "payload: {conf: {file: logger.conf}}\nsteps:\n")
    sheet = sheet.replace("result:", "- {id: conf, do: put-file, payload: conf, to: /etc/logger.conf}\nresult:")
    right = hashlib.sha256(FILE).hexdigest()
    with office.core as client:
        upload = client.upload(tmp_path / "logger.conf", region="skerry-1").id
        other = client.upload(tmp_path / "logger.conf", region="skerry-1").id
        for wrong, told in (({"sha256": "0" * 64}, "not the file"), ({"upload": "up-none"}, "no upload")):
            given = {"upload": upload, "bytes": len(FILE), "sha256": right} | wrong
            with pytest.raises((Invalid, NotFound), match=told):
                client.save_sheet("logging", sheet, payload={"conf": PayloadGiven.model_validate(given)})
        with pytest.raises(Invalid, match="is not given"):
            client.save_sheet("logging", sheet)
        file = PayloadGiven(upload=upload, bytes=len(FILE), sha256=right)
        assert client.save_sheet("logging", sheet, payload={"conf": file}).files == {"conf": file}
        digest = base64.b64encode(hashlib.sha256(b"interval = 9 \n").digest()).decode()
        part = {"content": b"interval = 9 \n", "headers": {"Content-Digest": f"sha-256=:{digest}:"}}
        put = office.http().put(f"/uploads/{upload}/parts/0", **part)  # type: ignore[arg-type]
        assert put.status_code == 409 and "saved sheet" in put.text
        with pytest.raises(Refused, match="saved sheet"):
            client.wait(client.import_image(line="gauge", upload=upload, number="9.0.0").id)
        office.execute("update uploads set created_at = created_at - interval '9 days'")
        office.upkeep("uploads")
        assert office.query("select id from uploads") == [(upload,)], other
        plan = client.plan_sheet_run("logging")
        assert plan.blockers == [] and plan.reference == "logger@1.0.0"
        client.drop_sheet("logging")
    office.upkeep("uploads")
    assert office.query("select id from uploads") == []
    assert office.store("skerry-1").parts(upload) == {}


def test_the_files_of_a_run_that_goes_on_stay_however_old_they_are(office: Office, tmp_path: Path) -> None:
    (tmp_path / "logger.conf").write_bytes(FILE)
    sheet = text(step="echo x").replace("steps:\n", "payload: {conf: {file: logger.conf}}\nsteps:\n")
    sheet = sheet.replace("result:", "- {id: conf, do: put-file, payload: conf, to: /etc/logger.conf}\nresult:")
    with office.core as client:
        upload = client.upload(tmp_path / "logger.conf", region="skerry-1").id
        file = PayloadGiven(upload=upload, bytes=len(FILE), sha256=hashlib.sha256(FILE).hexdigest())
        run = client.build(sheet, payload={"conf": file})
    office.execute("update uploads set created_at = created_at - interval '9 days'")
    office.upkeep("uploads")
    assert office.query("select id from uploads") == [(upload,)]
    office.execute("update operations set state = 'failed', ended_at = now() where id = %s", run.id)
    office.upkeep("uploads")
    assert office.query("select id from uploads") == []


def test_a_date_starts_one_run(office: Office) -> None:
    with office.core as client:
        saved = client.save_sheet("logging", text(when=SCHEDULE % ""))
        assert saved.zone == "Europe/Oslo" and len(saved.dates) == 5 and saved.next_at == saved.dates[0]
    after = due(office, "logging")
    [run] = after.runs
    assert (run.cause, run.saved_number, run.state, run.created_by) == ("schedule", 1, "queued", "sheet-schedule")
    assert after.next_at == saved.next_at, "the next date is the schedule's again"
    office.upkeep("sheets")
    again = due(office, "logging")
    assert len(again.runs) == 1 and again.noted == "its earlier run had not ended"
    office.execute("update operations set state = 'failed', ended_at = now() where id = %s", run.operation)
    with office.core as client:
        client.pause_sheet("logging")
        assert len(due(office, "logging").runs) == 1, "it is paused"
        resumed = client.pause_sheet("logging", False)
        assert resumed.next_at == saved.next_at
    assert len(due(office, "logging", timedelta(hours=9)).runs) == 2, "a date that was missed is one run later"


def test_a_missed_date_is_skipped_where_that_is_asked(office: Office) -> None:
    with office.core as client:
        client.save_sheet("logging", text(when=SCHEDULE % ", missed: skip"))
    after = due(office, "logging", timedelta(hours=9))
    assert after.runs == [] and "was missed" in after.noted and after.next_at == after.dates[0]


def test_a_date_that_is_skipped_takes_no_release_with_it(office: Office) -> None:
    with office.core as client:
        client.save_sheet("logging", text(when=SCHEDULE % ", after_base: true"))
        [run] = due(office, "logging").runs
        office.version("gauge@1.1.0")
        assert due(office, "logging").noted == "its earlier run had not ended"
        office.execute("update operations set state = 'succeeded', ended_at = now() where id = %s", run.operation)
        office.upkeep("sheets")
        newest, _ = client.builds()
        assert (newest.base, newest.cause) == ("gauge@1.1.0", "base")


def test_what_cannot_start_is_said_and_nothing_new_is_no_run(office: Office) -> None:
    with office.core as client:
        client.save_sheet("logging", text(line="nowhere", when=SCHEDULE % ""))
        after = due(office, "logging")
        assert "no line 'nowhere'" in after.noted and after.next_at == after.dates[0]
        [alert] = [a for a in client.alerts() if a.kind == "sheet-not-started"]
        assert alert.subject == "logging"
        client.save_sheet("logging", text(when=SCHEDULE % ""))
        assert not [a for a in client.alerts() if a.kind == "sheet-not-started"]
        [run] = due(office, "logging").runs
        office.execute("update operations set state = 'succeeded', ended_at = now() where id = %s", run.operation)
        made = office.version("logger@0.1.0")  # stands for what the run has made
        office.execute("update versions set operation_id = %s where number = '0.1.0'", run.operation)
        after = due(office, "logging")
        assert len(after.runs) == 1 and made in after.noted
        with pytest.raises(Refused, match="Nothing new"):
            client.run_sheet("logging", unless_same=True)


def test_a_release_of_the_base_starts_a_run_and_a_retirement_does_not(office: Office) -> None:
    with office.core as client:
        client.save_sheet("logging", text(when=AFTER_BASE))
        client.save_sheet("drawing", text("drawing", "logger", "charts", AFTER_BASE))
        for name, base, line in (("ring", "charts", "gauge"), ("self", "gauge", "gauge")):
            with pytest.raises(Invalid, match="would start this sheet"):
                client.save_sheet(name, text(name, base, line, AFTER_BASE))
        with pytest.raises(Invalid, match="The base is one version"):
            client.save_sheet("exact", text("exact", "gauge@1.0.0", "charts", AFTER_BASE))
        office.upkeep("sheets")
        assert not list(client.builds())
        office.version("gauge@1.1.0")
        for _ in range(2):
            office.upkeep("sheets")
        [run] = client.builds()
        assert (run.sheet, run.base, run.cause) == ("logging", "gauge@1.1.0", "base")
        office.execute("update operations set state = 'succeeded', ended_at = now() where id = %s", run.operation)
        client.retire("gauge@1.1.0")
        office.upkeep("sheets")
        assert len(list(client.builds())) == 1, "nothing is built on the older one again"


def test_a_token_may_run_one_sheet_and_do_nothing_else(office: Office) -> None:
    with office.core as client:
        for name in ("logging", "charting"):
            client.save_sheet(name, text(name=name))
        with pytest.raises(Invalid, match="may read and run, and nothing else"):
            client.make_token(name="wide", verbs=["read", "operate"], sheets=["logging"])
        made = client.make_token(name="nightly", verbs=["read", "run"], sheets=["logging"])
        assert client.run_sheet("charting", number="9.0.0").id, "who operates may run every sheet"
    with office.with_token(made.token) as robot:
        assert robot.run_sheet("logging").subject == "logger@9.1.0"
        assert [o.name for o in robot.saved_sheet("logging").offers if o.possible] == ["run"]
        for refused, why in (
            (lambda: robot.run_sheet("charting"), "does not cover the sheet charting"),
            (lambda: robot.save_sheet("logging", text(step="echo mine")), "does not cover operate"),
            (lambda: robot.build(text()), "does not cover operate"),
            (lambda: robot.make_token(name="more", verbs=["read", "run"], sheets=["charting"]), "does not cover all these sheets"),
            (lambda: robot.make_token(name="more", verbs=["operate"]), "does not cover all these verbs"),
        ):  # fmt: skip
            with pytest.raises(Forbidden, match=why):
                refused()
        child = robot.make_token(name="child")
    with office.core as client:
        operator = client.make_token(name="operator", verbs=["read", "operate"])
    with office.with_token(operator.token) as client:
        assert client.make_token(name="narrow", verbs=["read", "run"], sheets=["logging"]).sheets == ["logging"]
    assert child.sheets == ["logging"], "what is made with it is no wider"
