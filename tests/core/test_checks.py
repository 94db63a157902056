"""Checks: read with the place of each fault; versions as Debian compares them; the report as other tools read it."""

from __future__ import annotations

import shutil
import subprocess
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.checks.check import PackageIs, PageAnswers, listening, read_checks, said
from bathotype.core.checks.report import Judgement, junit
from bathotype.core.checks.versions import is_at_least
from bathotype.core.errors import Invalid


def test_checks_are_read_and_faults_have_a_place() -> None:
    page, package = read_checks(
        "checks:\n- {id: web, is: page, url: 'http://localhost/x', text: hi}\n- {id: a, is: package, package: b, at_least: '2'}\n"
    )
    assert isinstance(page, PageAnswers) and said(page) == "http://localhost/x answers 200 with 'hi'"
    assert isinstance(package, PackageIs) and said(package) == "b 2 or newer is installed"
    with pytest.raises(Invalid) as wrong:
        read_checks(
            "checks:\n- {id: boots, is: port, port: 0}\n- {id: b, is: page, url: 'file:///etc/passwd'}\n- {id: c, is: magic}\n"
            "- {id: d, is: program, argv: []}\n- {id: e, is: file, path: /a/../b}\n- {id: f, is: user, user: '-x'}\n"
        )
    told = str(wrong.value).splitlines()[1:]
    assert [line.partition(":")[0] for line in told] == [
        "line 2, column 31", "line 3, column 26", "line 4, column 3", "line 5, column 30", "line 6, column 27",
        "line 7, column 27",
    ]  # fmt: skip
    for twice in ("- {id: a, is: port, port: 1}\n- {id: a, is: port, port: 2}", "- {id: identity, is: port, port: 1}"):
        with pytest.raises(Invalid, match="Two checks are called"):
            read_checks(f"checks:\n{twice}\n")


def test_ports_that_are_listened_on() -> None:
    table = (
        "  sl  local_address rem_address   st tx_queue rx_queue\n"
        "   0: 00000000:0016 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0\n"
        "   1: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0\n"
        "   2: 0F02000A:0016 0202000A:C350 01 00000000:00000000 02:000A7B6B 00000000     0\n"
    )
    assert listening(table) == {22, 8080} and listening("\0" * 9000) == set()


_PARTS = st.text("0123456789abz.+~", min_size=1, max_size=8).map(lambda text: f"1{text}")
_VERSIONS = st.builds(
    lambda epoch, upstream, revision: f"{epoch}{upstream}{revision}",
    st.sampled_from(["", "0:", "2:"]), _PARTS, st.sampled_from(["", "-1", "-1~a", "-1+b2", "-0"]),
)  # fmt: skip


@pytest.mark.skipif(shutil.which("dpkg") is None, reason="dpkg is the judge")
@settings(max_examples=150, deadline=None)
@given(_VERSIONS, _VERSIONS)
def test_versions_are_compared_as_dpkg_does(one: str, other: str) -> None:
    judged = subprocess.run(["dpkg", "--compare-versions", one, "ge", other], check=False).returncode == 0
    assert is_at_least(one, other) == judged


def test_the_report_is_what_readers_of_junit_expect() -> None:
    found = [
        Judgement("web", "port 80 answers", True, 0.25),
        Judgement("a", "b is there", False, 1.0, "<no>\x1b[31m\0"),
    ]
    suite = ElementTree.fromstring(junit("gauge@1.0.0", found))
    assert (suite.get("tests"), suite.get("failures"), suite.get("time")) == ("2", "1", "1.250")
    failure = suite.find("testcase[@name='a']/failure")
    assert failure is not None and failure.text == "<no>\ufffd[31m\ufffd"
