"""The proof sheet: what was counted before, what was done about it, and what is left."""

from __future__ import annotations

from bathotype.core.generalize.plan import Change
from bathotype.core.generalize.proof import CLASSES, Held, ProofRow, Survey, done_about, proof_rows, survey
from bathotype.core.generalize.residue import Finding
from tests.core.files import Files

LIVED_IN = {
    "/etc/machine-id": b"5d3f0cfae1d04c5ab5f0c3e6f1b2a394\n",
    "/etc/hostname": b"gauge-7\n",
    "/etc/hosts": b"127.0.0.1 localhost gauge-7\n",
    "/etc/ssh/ssh_host_ed25519_key": b"k" * 400,
    "/etc/ssh/ssh_host_ed25519_key.pub": b"p" * 100,
    "/var/log/syslog": b"l" * 5000,
    "/var/log/tide/readings.log": b"r" * 300,
    "/root/.bash_history": b"ls\n",
    "/home/orla/.bash_history": b"export TOKEN\n",
    "/home/orla/.ssh/id_ed25519": b"s" * 200,
    "/opt/tide/collector": b"c" * 999,
}
CLEAN = {
    "/etc/machine-id": b"", "/etc/hostname": b"localhost\n", "/etc/hosts": b"127.0.0.1 localhost\n",
    "/var/log/tide/readings.log": b"", "/opt/tide/collector": b"c" * 999,
}  # fmt: skip


def by_name(rows: list[ProofRow]) -> dict[str, ProofRow]:
    return {row.name: row for row in rows}


def of(files: dict[str, bytes], host_name: str = "gauge-7") -> Survey:
    return survey(Files(files), host_name)


def held(found: Survey) -> dict[str, Held]:
    return {one.name: held for one, held in zip(CLASSES, found.classes, strict=True)}


def test_a_guest_is_counted_by_class() -> None:
    found = of(LIVED_IN)
    assert {name: one for name, one in held(found).items() if one.paths} == {
        "machine-id": Held(1, 33), "host-keys": Held(2, 500), "logs": Held(2, 5300), "histories": Held(2, 16),
        "users-keys": Held(1, 200),
    }  # fmt: skip
    assert found.named == 2, "two files hold the host name"
    assert found.files == Held(len(LIVED_IN), sum(map(len, LIVED_IN.values())))


def test_nobodys_name_is_counted_nowhere() -> None:
    for nobody in ("", "localhost"):
        assert of(LIVED_IN, nobody).named == 0


def test_each_class_has_one_row_and_the_name_and_secrets_one() -> None:
    names = [row.name for row in proof_rows(of(LIVED_IN), {}, of(CLEAN), [])]
    assert names == [CLASSES[0].name, "host-name", *(one.name for one in CLASSES[1:]), "secrets"]


def test_what_was_there_is_gone_and_what_was_never_there_is_none() -> None:
    rows = by_name(proof_rows(of(LIVED_IN), {"host-keys": ["ssh-host-keys: 2 removed"]}, of(CLEAN), []))
    assert {name for name, row in rows.items() if row.outcome == "gone"} == {
        "machine-id", "host-name", "host-keys", "logs", "histories", "users-keys",
    }  # fmt: skip
    assert {row.outcome for row in rows.values()} == {"gone", "none"}
    keys = rows["host-keys"]
    assert (keys.before, keys.done, keys.after) == (Held(2, 500), ("ssh-host-keys: 2 removed",), Held(0, 0))
    assert rows["logs"].after == Held(1, 0), "an empty log is no log"


def test_what_is_left_is_said_to_be() -> None:
    rows = by_name(proof_rows(of(LIVED_IN), {}, of(LIVED_IN), []))
    assert {name for name, row in rows.items() if row.outcome == "left"} == {
        "machine-id", "host-name", "host-keys", "logs", "histories", "users-keys",
    }  # fmt: skip
    appeared = by_name(proof_rows(of(CLEAN), {}, of({**CLEAN, "/root/.bash_history": b"ls\n"}), []))
    assert appeared["histories"].outcome == "left", "though it was not there before"


def test_what_nobody_could_count_is_not_known() -> None:
    unseen = proof_rows(of(LIVED_IN), {}, None, [])
    assert {row.outcome for row in unseen} == {"unknown"} and all(row.after is None for row in unseen)
    first = by_name(proof_rows(None, {}, of(CLEAN), []))
    assert first["logs"].outcome == "none" and first["logs"].before is None


def test_secrets_are_those_that_the_scan_sees() -> None:
    def finding(rule: str, severity: str = "high") -> Finding:
        return Finding(rule, rule, severity, "/root/x", 1, "", "")

    def row(*findings: Finding) -> ProofRow:
        return proof_rows(of(LIVED_IN), {}, of(CLEAN), findings)[-1]

    assert (row().outcome, row().after) == ("none", Held(0))
    assert (row(finding("private-key"), finding("token-shape")).outcome, row(finding("private-key")).after) == (
        "left",
        Held(1),
    )
    assert row(finding("private-key", "low"), finding("machine-id"), finding("not-scanned")).outcome == "none"


def test_what_was_done_is_told_by_class_and_step() -> None:
    changes = [
        Change("ssh-host-keys", "remove", "/etc/ssh/ssh_host_rsa_key", 1),
        Change("ssh-host-keys", "remove", "/etc/ssh/ssh_host_rsa_key.pub", 1),
        Change("machine-id", "empty", "/etc/machine-id", 33),
        Change("own", "clear", "/var/log/syslog", 9),
        Change("logs", "remove", "/var/log/syslog.1", 9),
        Change("host-name", "write", "/etc/hostname", 8),
        Change("own", "edit", "/etc/hosts", 8),
        Change("own", "remove", "/opt/tide/cache", 8),
    ]
    assert done_about(changes) == {
        "host-keys": ["ssh-host-keys: 2 removed"],
        "machine-id": ["machine-id: 1 emptied"],
        "logs": ["logs: 1 removed", "own: 1 cleared"],
        "host-name": ["host-name: 1 written", "own: 1 edited"],
    }
