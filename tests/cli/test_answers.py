"""What commands print for people who look: whole answers, line by line, tabs between columns."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path

from tests.cli.conftest import Cli
from tests.cli.test_commands import done
from tests.office import Office
from tests.service.test_versions import HIGH


def rows(answer: str) -> list[list[str]]:
    return [line.split("\t") for line in answer.splitlines()]


def facts(answer: str) -> dict[str, str]:
    """Named facts, one a line."""
    return {name: value for name, _, value in (line.partition("\t") for line in answer.splitlines())}


def test_a_line_from_nothing_to_its_first_release(office: Office, cli: Cli) -> None:
    done(cli("lines", "create", "gauge", "--about", "reads gauges"))
    shown = facts(done(cli("lines", "show", "gauge")))
    assert (shown["line"], shown["about"], shown["versions"]) == ("tide-core/gauge", "reads gauges", "0")
    assert shown["demands"] == "findings of severity high and above are accepted before a release"
    told = done(cli("offers", "gauge"))
    assert told.startswith("gauge has no version yet. Capture a machine to make its first one.\n\n")
    assert ["Launch from it", "no", "gauge has no released version yet."] in rows(told)
    assert ["Capture its first version", "yes", "From a machine at a site; its source keeps running."] in rows(told)
    assert done(cli("today")) == "Nothing needs you. No instance runs.\n"
    refused = cli("resolve", "gauge")
    assert refused.returncode == 3 and "gauge has no released version." in refused.stderr
    office.version("gauge@1.0.0")
    assert done(cli("offers", "gauge")).startswith("gauge 1.0.0 is the newest release. No instance runs any version")
    done(cli("versions", "pin-only", "gauge@1.0.0"))
    refused = cli("resolve", "gauge")
    assert (
        refused.returncode == 3 and "Every released version of gauge is pin-only: name one exactly." in refused.stderr
    )


def test_what_a_line_demands_holds_for_its_releases(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0", release=False)
    told = done(cli("lines", "demand", "gauge", "medium", "--proven", "yes"))
    assert told == (
        "gauge demands that findings of severity medium and above are accepted before a release, and that checks have "
        "passed\n"
    )
    refused = cli("versions", "release", "gauge@1.0.0")
    assert (
        refused.returncode == 4
        and "Run `bathotype prove gauge@1.0.0`, and correct what does not pass." in refused.stderr
    )
    done(cli("lines", "demand", "gauge", "--proven", "no"))
    assert done(cli("versions", "release", "gauge@1.0.0")) == "gauge@1.0.0 released\n"
    refused = cli("versions", "release", "gauge@1.0.0")
    assert refused.returncode == 4 and refused.stderr == "bathotype: gauge@1.0.0 is released already.\n"


def test_a_version_is_shown_with_all_that_is_recorded(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0", region="fjord-2")
    shown = facts(done(cli("versions", "show", "gauge@1.0.0")))
    assert shown["made by"].startswith("capture (live) of gauge-seed-01")
    assert (shown["disk"], shown["regions"]) == (
        "293.0 KiB, 293.0 KiB used, 293.0 KiB stored, 293.0 KiB new",
        "fjord-2",
    )
    assert (shown["packages"], shown["users"], shown["profile"], shown["findings"]) == ("2", "mara", "linux", "0")
    assert re.fullmatch("blake3:[0-9a-f]{64}", shown["content"]) and re.fullmatch(
        "key [0-9a-f]{16}", shown["signed with"]
    )
    assert done(cli("packages", "gauge@1.0.0", "--find", "tide")) == "tide-gauge\t2.3.1\tamd64\tdpkg\n"
    assert done(cli("packages", "--which", "nothing")) == ""
    assert done(cli("versions", "notes", "gauge@1.0.0", "Reads.")) == "gauge@1.0.0: Reads.\n"
    assert done(cli("versions", "until", "gauge@1.0.0", "2099-01-01")).endswith("released, retires on 2099-01-01\n")
    assert done(cli("versions", "until", "gauge@1.0.0", "never")) == "gauge@1.0.0 released, with no end date\n"
    told = cli("versions", "verify", "gauge@1.0.0")
    assert done(told) == "gauge@1.0.0 in fjord-2: every chunk is sound\n" and told.stderr.startswith("operation op-")


def test_marks_and_their_moves(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0")
    office.version("gauge@1.1.0")
    done(cli("marks", "set", "gauge@1.1.0", "stable"))
    done(cli("marks", "set", "gauge@1.0.0", "stable"))
    [(mark, number, _, by, moves)] = rows(done(cli("marks", "list", "gauge")))
    assert (mark, number, by, moves) == ("stable", "1.0.0", "tide-core-demo", "1.1.0")
    refused = cli("retire", "gauge@1.0.0")
    assert (
        refused.returncode == 4
        and "The mark stable points to it. Move the mark to another version first." in refused.stderr
    )
    done(cli("marks", "drop", "gauge", "stable"))
    done(cli("retire", "gauge@1.0.0"))
    refused = cli("marks", "set", "gauge@1.0.0", "stable")
    assert refused.returncode == 4 and "released versions only. Take another version." in refused.stderr
    assert cli("marks", "drop", "gauge", "stable").returncode == 3


def test_findings_are_listed_accepted_and_then_in_no_ones_way(office: Office, cli: Cli) -> None:
    office.version("leaky@1.0.0", release=False, findings=(HIGH,))
    told = cli("residue", "leaky@1.0.0")
    assert rows(done(told)) == [["high", HIGH.id, "/root/id:1", "-----BEGIN", "Remove it.", ""]]
    assert told.stderr == "1 open finding of high severity: it can be staged but not released.\n"
    refused = cli("versions", "release", "leaky@1.0.0")
    assert refused.returncode == 4 and f"1 open finding of high severity: {HIGH.id}." in refused.stderr
    assert "no finding 'none'" in cli("versions", "accept", "leaky@1.0.0", "none", "--reason", "a test").stderr
    assert "less than 3 characters" in cli("versions", "accept", "leaky@1.0.0", HIGH.id, "--reason", "ok").stderr
    assert done(cli("versions", "accept", "leaky@1.0.0", HIGH.id, "--reason", "a test")) == f"accepted {HIGH.id}\n"
    assert rows(done(cli("residue", "leaky@1.0.0")))[0][-1] == "a test (tide-core-demo)"
    assert done(cli("residue", "leaky@1.0.0", "--open")) == ""
    assert done(cli("versions", "release", "leaky@1.0.0")) == "leaky@1.0.0 released\n"


def test_a_launch_is_planned_made_and_followed(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0")
    office.launched("gauge@1.0.0", "g-01", "g-02")
    office.version("gauge@1.1.0")
    asked = ("launch", "gauge", "--region", "skerry-1", "--name", "h", "--subnet", "office", "--firewall", "web")
    room = ("--public", "--boot-size", "1GiB", "--extra-disk", "100MiB", "--keep-data-disks")
    plan = facts(done(cli(*asked, *room, "--plan")))
    assert plan["disks"] == "boot 1.0 GiB, grown from 293.0 KiB; extra-1 100.0 MiB, empty, kept afterwards"
    assert (plan["open"], plan["public address"]) == ("tcp 80 from 0.0.0.0/0 (web)", "each gets one")
    assert plan["base disk"] == "293.0 KiB are written to the site first"
    assert plan["site quota, machines"] == "2 of 400 in use"
    done(cli(*asked, *room))
    shown = facts(done(cli("instances", "show", "h")))
    assert (shown["version"], shown["state"], shown["firewall sets"]) == ("gauge@1.1.0", "running", "web")
    assert shown["public address"] == "2001:db8:5::10" and shown["boot"].startswith("1.0 GiB, grown from 293.0 KiB (d-")
    assert shown["extra-1"].startswith("100.0 MiB, kept afterwards (d-")
    assert facts(done(cli("instances", "show", "g-01")))["behind"] == "1 (newest 1.1.0)"
    assert [row[0] for row in rows(done(cli("instances", "list", "--behind", "--sort", "name")))] == ["g-01", "g-02"]
    assert [row[0] for row in rows(done(cli("instances", "list", "--version", "gauge@1.1.0")))] == ["h"]
    assert done(cli("instances", "counts")) == "gauge@1.1.0\treleased\t1 running\ngauge@1.0.0\treleased\t2 running\n"
    written = list(csv.DictReader(done(cli("instances", "list", "--csv")).splitlines()))
    assert written[0]["name"] == "h" and {row["name"] for row in written} == {"h", "g-01", "g-02"}
    assert json.loads(written[0]["identity"]).keys() == {"addresses", "host_keys", "host_name", "machine_id"}


def test_what_many_instances_would_lose_is_asked_first(office: Office, cli: Cli) -> None:
    office.launched(office.version("gauge@1.0.0"), "g-01", "g-02", "g-03")
    assert done(cli("instances", "stop", "g-03")) == "g-03 stopped\n"
    assert done(cli("instances", "start", "g-03")) == "g-03 running\n"
    assert done(cli("instances", "terminate", "--version", "gauge@1.0.0", "--plan")) == (
        "3 instances will be terminated.\ngauge@1.0.0: 3\n"
    )
    refused = cli("instances", "terminate", "--version", "gauge@1.0.0")
    assert refused.returncode == 4 and refused.stderr == (
        "warning: 3 of them run the newest release of the line.\n"
        "bathotype: This would terminate: g-01, g-02, g-03 (3). Add --yes if you want that.\n"
    )
    assert "terminate 3 instances: succeeded\n" in done(
        cli("instances", "terminate", "--version", "gauge@1.0.0", "--yes")
    )
    assert {row[3] for row in rows(done(cli("instances", "list", "--state", "terminated")))} == {"terminated"}
    assert done(cli("today")) == "Nothing needs you. No instance runs.\n"
    actions = [row[2] for row in rows(done(cli("events", "list", "--subject", "g-03")))]
    assert actions == ["instance.terminated", "instance.running", "instance.stopped", "instance.running"]


def test_operations_are_listed_shown_and_their_end_is_final(office: Office, cli: Cli) -> None:
    office.launched(office.version("gauge@1.0.0"), "g-01")
    [row] = rows(done(cli("operations", "list", "--kind", "launch")))
    assert row[1:5] == ["launch", "gauge@1.0.0", "succeeded", "100%"] and row[5].endswith("s")
    operation = row[0]
    shown = done(cli("operations", "show", operation))
    assert "Create the machines" in shown and "Follow first boot" in shown and "succeeded" in shown
    assert "1 instance running, with an identity of its own." in done(cli("operations", "log", operation))
    assert done(cli("operations", "watch", operation)).count("succeeded") == 1
    for verb, told in (("retry", "only failed or cancelled ones are retried"), ("cancel", "succeeded")):
        refused = cli("operations", verb, operation)
        assert refused.returncode == 4 and told in refused.stderr
    assert done(cli("operations", "list", "--state", "failed")) == ""
    events = list(csv.DictReader(done(cli("events", "list", "--csv")).splitlines()))
    assert [int(e["id"]) for e in events] == sorted((int(e["id"]) for e in events), reverse=True)
    assert {e["action"] for e in events} >= {"version.released", "instance.running", "operation.succeeded"}
    assert done(cli("events", "check")).startswith("whole: every event follows from the one before; ")


def test_the_end_of_a_version_in_words(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0")
    told = cli("sunset", "gauge@1.0.0", "--plan")
    assert done(told) == "Launches of gauge@1.0.0 warn from now on, and the accounts that run it are notified.\n"
    assert told.stderr == "warning: No day is given: it stays in sunset until somebody retires it.\n"
    assert "2020-01-01 is not in the future." in cli("sunset", "gauge@1.0.0", "--until", "2020-01-01").stderr
    assert done(cli("sunset", "gauge@1.0.0", "--until", "2099-01-01")) == "gauge@1.0.0 sunset, retires on 2099-01-01\n"
    assert cli("sunset", "gauge@1.0.0").stderr == "bathotype: gauge@1.0.0 is in sunset already.\n"
    refused = cli("versions", "until", "gauge@1.0.0", "never")
    assert refused.returncode == 4 and refused.stderr.startswith(
        "bathotype: gauge@1.0.0 is in sunset. `bathotype sunset"
    )
    refused = cli("sunset", "gauge@1.0.0", "--lift", "--until", "2099-01-01")
    assert refused.returncode == 2 and "Leave out --until and --plan." in refused.stderr
    assert done(cli("sunset", "gauge@1.0.0", "--lift")) == "gauge@1.0.0 released\n"
    assert done(cli("retire", "gauge@1.0.0")) == "gauge@1.0.0 retired\n"
    grace = cli("purge", "gauge@1.0.0", "--plan")
    assert grace.returncode == 4 and grace.stdout == "" and "Wait, or waive it with --no-grace." in grace.stderr
    assert re.search(r"gauge@1.0.0 purged, 293\.\d KiB freed\n", done(cli("purge", "gauge@1.0.0", "--no-grace")))
    refused = cli("launch", "gauge@1.0.0", "--region", "skerry-1", "--name", "z")
    assert "gauge@1.0.0 is purged: it takes no new launches." in refused.stderr
    assert "No region holds a sound replica of it." in refused.stderr and "replicate" not in refused.stderr


def test_copies_in_words(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0")
    plan = rows(done(cli("replicate", "gauge@1.0.0", "--to", "fjord-2:2,lagoon-3", "--plan")))
    assert plan == [
        ["fjord-2", "skerry-1", "293.0 KiB", "not measured yet", "0 -> 2"],
        ["lagoon-3", "skerry-1", "293.0 KiB", "not measured yet", "0 -> 1"],
    ]
    done(cli("replicate", "gauge@1.0.0", "--to", "fjord-2:2,lagoon-3"))
    places = rows(done(cli("replicas", "gauge@1.0.0")))
    assert [place[:4] for place in places] == [
        ["fjord-2", "ready", "2", "2 in fjord-2a"],
        ["lagoon-3", "ready", "1", "1 in lagoon-3a"],
        ["skerry-1", "ready", "0", "none"],
    ]
    assert done(cli("drain", "gauge@1.0.0", "--region", "lagoon-3", "--plan")) == (
        "1 base disk of it in lagoon-3 is removed.\n"
        "Its chunks that no other version in lagoon-3 needs are removed there.\n"
        "It stays in fjord-2, skerry-1.\n"
    )
    assert re.search(
        r"gauge@1.0.0 left lagoon-3, 293\.\d KiB freed\n", done(cli("drain", "gauge@1.0.0", "--region", "lagoon-3"))
    )
    assert "has no replica in lagoon-3" in cli("drain", "gauge@1.0.0", "--region", "lagoon-3").stderr
    done(cli("placement", "set", "gauge", "--to", "skerry-1,fjord-2:2", "--multi-zone"))
    assert done(cli("placement", "show", "gauge")) == "skerry-1\t1\tall\nfjord-2\t2\tall\n"
    assert done(cli("placement", "set", "gauge", "--to", "none")) == "gauge: no placement\n"


def test_shares_from_both_sides(office: Office, cli: Cli) -> None:
    office.version("gauge@1.0.0")
    office.version("gauge@1.1.0", release=False)
    told = cli("share", "gauge@1.1.0", "--with", "harbour-watch", "--note", "for the trial")
    shown = facts(done(told))
    assert (shown["state"], shown["of"], shown["regions"], shown["running"]) == (
        "proposed",
        "gauge@1.1.0",
        "all",
        "0 instances",
    )
    assert told.stderr == "warning: gauge@1.1.0 is staged: nothing can be launched from it before it is released.\n"
    share = shown["share"]
    [inbox] = rows(done(cli("shares", "inbox", account="harbour-watch")))
    assert inbox[:2] == [share, "proposed"] and inbox[-1] == "for the trial"
    assert cli("shares", "accept", share).stderr == "bathotype: Only harbour-watch can accept or decline this share.\n"
    done(cli("shares", "accept", share, account="harbour-watch"))
    for verb in ("accept", "decline"):
        assert cli("shares", verb, share, account="harbour-watch").stderr == "bathotype: The share is active already.\n"
    mine = ("adopt", "tide-core/gauge@1.1.0", "--line", "mine", "--number", "1.0.0")
    refused = cli(*mine, account="harbour-watch")
    assert refused.returncode == 3 and "`bathotype lines create mine` makes it." in refused.stderr
    done(cli("lines", "create", "mine", account="harbour-watch"))
    assert "There is no tide-core/gauge@1.1.0 here." in cli(*mine, account="harbour-watch").stderr, "it is not released"
    done(cli("versions", "release", "gauge@1.1.0"))
    adopted = cli(*mine, account="harbour-watch")
    assert facts(done(adopted)) == {"adopted": "mine@1.0.0", "from": "tide-core/gauge@1.1.0", "regions": "skerry-1"}
    assert "Next: `bathotype versions release mine@1.0.0`" in adopted.stderr
    shown = facts(done(cli("versions", "show", "mine@1.0.0", account="harbour-watch")))
    assert shown["made by"] == "adoption of tide-core/gauge@1.1.0" and shown["disk"].endswith("0 B new")
    refused = cli("versions", "notes", "tide-core/gauge@1.1.0", "x", account="harbour-watch")
    assert refused.returncode == 4 and "which its owner alone may do" in refused.stderr
    assert facts(done(cli("shares", "end", share)))["state"] == "ended"
    assert cli("shares", "end", share).stderr == "bathotype: The share has ended already.\n"
    assert [row[1] for row in rows(done(cli("shares", "list", "--ended")))] == ["ended"]
    assert done(cli("shares", "list")) == ""


def test_rules_and_allowances_in_words(office: Office, cli: Cli, tmp_path: Path) -> None:
    office.version("gauge@1.0.0")
    (tmp_path / "rules.yaml").write_text(
        "rules:\n- {name: quays-only, applies_to: 'tide-core/*', regions: [fjord-2], tags: [berth]}\n"
        "- {name: fresh, no_older_than_days: 30, effect: warn}\n"
    )
    done(cli("rules", "set", str(tmp_path / "rules.yaml")))
    assert [row[:5] for row in rows(done(cli("rules", "list")))] == [
        ["fresh", "warn", "tide-core", "*", "not older than 30 days"],
        ["quays-only", "refuse", "tide-core", "tide-core/*", "regions fjord-2; tags berth"],
    ]
    told = cli("rules", "explain", "gauge", "--region", "skerry-1")
    assert told.returncode == 4 and told.stdout.endswith("tide-core may not launch gauge@1.0.0 in skerry-1.\n")
    assert rows(told.stdout)[1] == [
        "quays-only", "tide-core", "refuse", "Region skerry-1 is not allowed. The tag berth is missing.",
        "Launch in fjord-2. Add --tag berth=VALUE.",
    ]  # fmt: skip
    done(cli("rules", "explain", "gauge", "--region", "fjord-2", "--tag", "berth=1"))
    theirs = cli("rules", "explain", "gauge@1.0.0", "--region", "skerry-1", "--for", "harbour-watch")
    assert theirs.returncode == 4 and "obstacle: gauge@1.0.0 is not shared with harbour-watch." in theirs.stderr
    assert done(cli("rules", "remove", "quays-only")) == "quays-only removed\n"
    assert done(cli("allowances", "set", "quays", "--line", "gauge", "--most", "1")) == (
        "quays\ttide-core\tline\tgauge\tall\t0 of 1\n"
    )
    asked = ("launch", "gauge", "--region", "skerry-1", "--name", "q")
    assert "0 of 1 in use, so 1 more instance may run, not 2." in cli(*asked, "--count", "2").stderr
    done(cli(*asked))
    full = cli(*asked[:-1], "r", "--plan")
    assert full.returncode == 4 and facts(full.stdout)["allowance quays"] == "1 of 1 in use"
    assert "1 of 1 in use, so no more instances may run." in full.stderr
    assert done(cli("allowances", "remove", "quays")) == "quays removed\n"


def test_saved_settings_are_shown_as_they_can_be_saved(office: Office, cli: Cli, tmp_path: Path) -> None:
    file = tmp_path / "quay.yaml"
    text = "domain: tide.example\nusers:\n- name: mara\n  groups:\n  - adm\n"
    file.write_text(text)
    assert done(cli("first-boot", "save", "quay", str(file))) == "saved quay\n"
    assert done(cli("first-boot", "show", "quay")) == text
    assert rows(done(cli("first-boot", "list"))) == [["quay", "", "tide.example", "", "mara"]]
    file.write_text("rules: [{name: north, regions: skerry-1}]\n")
    refused = cli("rules", "set", str(file))
    assert f"{file} is no launch rule: regions: must be a list. See docs/launch-rules.md" in refused.stderr


def test_people_robots_tokens_and_keys(office: Office, cli: Cli) -> None:
    assert rows(done(cli("auth", "whoami")))[-1] == [
        "tide-core",
        "steward",
        "manage, operate, read, retire, rule, run, share",
    ]
    told = cli("members", "add", "orla", "--role", "operator")
    assert re.fullmatch(r"orla operator\n[\w-]{32}\n", done(told)) and "good for 7 days and one use" in told.stderr
    assert "Change the role instead." in cli("members", "add", "orla", "--role", "operator").stderr
    assert done(cli("members", "role", "orla", "steward")) == "orla steward\n"
    done(cli("members", "add", "tide-builder", "--role", "operator", "--robot"))
    assert "it has tokens, and no password" in cli("members", "invite", "tide-builder").stderr
    told = cli("auth", "tokens", "make", "pipeline", "--robot", "tide-builder", "--verb", "read", "--days", "90")
    assert re.fullmatch(r"bt_[\w-]{43}\n", done(told)) and "It is shown this once:" in told.stderr
    token = told.stderr.partition(",")[0]
    assert [token, "pipeline", "tide-builder", "read", "its accounts", "never"] in [
        row[:6] for row in rows(done(cli("auth", "tokens", "list", "--valid")))
    ]
    done(cli("auth", "tokens", "revoke", token))
    assert token not in done(cli("auth", "tokens", "list", "--valid"))
    assert (
        "`bathotype members add none --robot` makes it." in cli("auth", "tokens", "make", "x", "--robot", "none").stderr
    )
    for name in ("orla", "tide-builder"):
        assert done(cli("members", "remove", name)) == f"{name} removed\n"
    refused = cli("members", "remove", "tide-core-demo")
    assert refused.returncode == 4 and "would be left without a steward. Make another one first." in refused.stderr
    office.version("signed@1.0.0")
    [first] = rows(done(cli("keys", "list")))
    rotated = rows(done(cli("keys", "rotate")))
    assert [row[2] for row in rotated] == ["active", "rotated"] and rotated[1][0] == first[0]
    assert "It is the key in use." in cli("keys", "distrust", rotated[0][0]).stderr
