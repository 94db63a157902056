"""Disks in and out through the running service: exports, imports, edits, judged by qemu-img and the digest."""

from __future__ import annotations

import hashlib
import json
import subprocess
import time
from pathlib import Path
from typing import Any

import httpx
import pytest

from bathotype.core.errors import NotFound, Refused
from tests.support import System, e2fsck, holds

MIB = 1024 * 1024


@pytest.fixture(scope="module")
def version(system: System) -> str:
    """A released version of a demo machine."""
    return system.captured("gauge-disks", number="1.0.0")


@pytest.fixture(scope="module")
def exported(system: System, version: str, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """It, as a raw file."""
    target = tmp_path_factory.mktemp("out") / "gauge.raw"
    with system.core as client:
        client.export(version, target)
    return target


@pytest.mark.parametrize(
    ("form", "judged"), [("qcow2", "qcow2"), ("vhd", "vpc"), ("vmdk", "vmdk"), ("vmdk-stream", "vmdk")]
)
def test_an_export_is_what_it_says_and_comes_back_the_same(
    form: str, judged: str, system: System, version: str, exported: Path, cli: Any, tmp_path: Path
) -> None:
    target = tmp_path / f"gauge.{form.partition('-')[0]}"
    done = cli("export", version, "--to", str(target), "--format", form, "--json")
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert hashlib.sha256(target.read_bytes()).hexdigest() == told["sha256"] and told["size"] == target.stat().st_size
    subprocess.run(["qemu-img", "compare", "-f", "raw", "-F", judged, exported, target], check=True)
    number = {"qcow2": "2.0.0", "vhd": "2.1.0", "vmdk": "2.2.0", "vmdk-stream": "2.3.0"}[form]
    done = cli("import", str(target), "--line", "gauge-disks", "--number", number, "--as-is", "--json")
    assert done.returncode == 0, done.stderr
    with system.core as client:
        assert client.version(f"gauge-disks@{number}").content_digest == client.version(version).content_digest


def test_a_download_that_is_cut_goes_on(system: System, version: str, tmp_path: Path) -> None:
    url = f"{system.url}/api/v1/versions/{version}/disk"
    headers = {"Authorization": f"Bearer {system.secrets['api']['tide-core']}"}
    whole = httpx.get(url, params={"format": "ova"}, headers=headers, trust_env=False, timeout=60)
    etag, size = whole.headers["ETag"], len(whole.content)
    part = httpx.get(
        url, params={"format": "ova"}, headers={**headers, "Range": "bytes=70000-", "If-Range": etag}, trust_env=False,
        timeout=60,
    )  # fmt: skip
    assert part.status_code == 206 and part.headers["Content-Range"] == f"bytes 70000-{size - 1}/{size}"
    assert part.content == whole.content[70000:]
    other = httpx.get(
        url, params={"format": "qcow2"}, headers={**headers, "Range": "bytes=5-9", "If-Range": '"old"'},
        trust_env=False, timeout=60,
    )  # fmt: skip
    assert other.status_code == 200 and other.content[:4] == b"QFI\xfb", "another file: it comes from its beginning"
    again = httpx.get(url, params={"format": "qcow2"}, headers=headers, trust_env=False, timeout=60)
    assert again.headers["Repr-Digest"].startswith("sha-256=:")
    beyond = httpx.get(url, headers={**headers, "Range": f"bytes={1 << 40}-"}, trust_env=False)
    assert beyond.status_code == 416
    target = tmp_path / "x.qcow2"
    with system.core as client:
        client.export_file(version, target, "qcow2")
        target.rename(tmp_path / "whole")
        # What an earlier run left is kept and gone on from.
        with httpx.stream("GET", url, params={"format": "qcow2"}, headers=headers, trust_env=False) as answer:
            digest = answer.headers["ETag"]
        from bathotype.core.store.chunks import digest as named

        left = tmp_path / f".x.qcow2.{named(digest.encode()).hex()[:12]}.part"
        left.write_bytes((tmp_path / "whole").read_bytes()[: 3 * MIB + 17])
        client.export_file(version, target, "qcow2")
    assert target.read_bytes() == (tmp_path / "whole").read_bytes() and not left.exists()


def test_an_imported_machine_is_generalized_like_a_captured_one(system: System, version: str, tmp_path: Path) -> None:
    raw = system.disk_file("gauge-seed-01")
    image = tmp_path / "seed.qcow2"
    subprocess.run(["qemu-img", "convert", "-f", "raw", "-O", "qcow2", "-c", str(raw), str(image)], check=True)
    httpx.put(f"{system.bucket_url}/in/seed.qcow2", content=image.read_bytes(), trust_env=False).raise_for_status()
    with system.core as client:
        request = {"url": "s3://halvane-images/in/seed.qcow2", "line": "gauge-disks", "number": "3.0.0",
                   "region": "skerry-1"}  # fmt: skip
        seen = client.inspect_import(**request)
        assert seen.importable and seen.format == "qcow2" and seen.virtual_bytes == 384 * MIB
        done = client.wait(client.import_image(**request).id)
        imported = client.version((done.result or {})["reference"])
        target = tmp_path / "out.raw"
        client.export(imported.reference, target)
        log = [line.text for line in client.operation_log(done.id)]
        steps = [s.name for s in client.operation(done.id).steps]
    assert steps == ["unpack", "check", "fetch", "generalize", "store", "scan", "seal"]
    assert (imported.mode, imported.source["file"], imported.packages) == ("import", request["url"], 58)
    assert [f.rule for f in system.core.findings(imported.reference)] == ["source-host-name"], log
    e2fsck(target)
    assert holds(raw, b"TIDE_API_TOKEN") and not holds(target, b"TIDE_API_TOKEN")
    system.core.release(imported.reference)
    with system.core as client:
        launched = client.wait(client.launch(reference=imported.reference, region="skerry-1", name="from-file").id)
        assert (launched.result or {})["instances"][0]["state"] == "running"


def test_what_stands_in_an_imports_way_is_told_at_once(system: System, version: str, tmp_path: Path, cli: Any) -> None:
    begun = time.monotonic()
    with system.core as client:
        line = {"line": "gauge-disks", "number": "9.0.0", "region": "skerry-1"}
        for url, told in (
            ("s3://halvane-images/in/none.vmdk", "There is no s3://halvane-images/in/none.vmdk"),
            ("s3://another/x", "may not read the bucket 'another'"),
        ):
            with pytest.raises(Refused, match=told):
                client.import_image(url=url, **line)
        with pytest.raises(NotFound):
            client.import_image(upload="up-0", **line)
        httpx.put(f"{system.bucket_url}/bad.qcow2", content=b"QFI\xfb" + bytes(600), trust_env=False)
        httpx.put(f"{system.bucket_url}/odd.raw", content=b"x" * 1000, trust_env=False)
        for name in ("bad.qcow2", "odd.raw"):
            assert not client.inspect_import(url=f"s3://halvane-images/{name}", **line).importable
        found = client.inspect_import(url="s3://halvane-images/bad.qcow2", **{**line, "number": "1.0.0"})
        assert {r.check for r in found.remarks if r.outcome == "obstacle"} == {"format", "number"}
    with system.client("harbour-watch") as stranger:
        stranger.create_line("quay")
        with pytest.raises(Refused, match="may not read the bucket"):
            stranger.import_image(url="s3://halvane-images/in/seed.qcow2", line="quay", number="1.0.0")
    done = cli("import", "/nowhere.img", "--line", "gauge-disks", "--number", "9.0.0")
    assert done.returncode == 2 and "is no file" in done.stderr
    assert time.monotonic() - begun < 20


def test_an_upload_is_checked_part_by_part_and_belongs_to_its_account(system: System, version: str) -> None:
    headers = {"Authorization": f"Bearer {system.secrets['api']['tide-core']}"}
    other = {"Authorization": f"Bearer {system.secrets['api']['chart-house']}"}
    with httpx.Client(base_url=f"{system.url}/api/v1", trust_env=False) as http:
        made = http.post("/uploads", json={"name": "x", "size": 9 * MIB, "region": "skerry-1"}, headers=headers).json()
        place = f"/uploads/{made['id']}"
        good = "sha-256=:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=:"  # of nothing
        put = lambda n, **o: http.put(f"{place}/parts/{n}", **{"headers": {**headers, "Content-Digest": good}, **o})  # noqa: E731
        assert put(0, content=b"y").status_code == 422, "bytes that are not what their digest says"
        assert put(0, content=b"").status_code == 422, "a part that is too short"
        assert put(2, params={"zeros": "true"}).status_code == 422, "a part that the file does not have"
        assert put(0, params={"zeros": "true"}).status_code == 204
        assert http.get(place, headers=headers).json()["parts"] == [0]
        assert http.get(place, headers=other).status_code == 404
        body = {"upload": made["id"], "line": "gauge-disks", "number": "9.1.0"}
        refused = http.post("/imports", json=body, headers=headers)
        assert refused.status_code == 409 and "1 of 2 parts" in refused.json()["detail"]
        assert http.delete(place, headers=headers).status_code == 204
        assert http.get(place, headers=headers).status_code == 404


def test_an_edit_makes_a_new_version_without_a_boot(system: System, version: str, cli: Any, tmp_path: Path) -> None:
    (tmp_path / "motd").write_bytes(b"Halvane Tide Office\n\xff")
    sheet = tmp_path / "steps.yaml"
    sheet.write_text(
        "steps:\n- {id: motd, do: put-file, path: /etc/motd, from: ./motd}\n"
        "- {id: orla, do: authorize-key, user: mara, key: ssh-ed25519 AAAAC3Nz orla}\n"
        "- {id: hosts, do: set-line, paths: [/etc/hosts], match: '^192.0.2.250', line: 192.0.2.250 buoy}\n"
    )
    done = cli("edit", version, "--steps", str(sheet), "--number", "1.0.1", "--json")
    assert done.returncode == 0, done.stderr
    target = tmp_path / "out.raw"
    with system.core as client:
        made = client.version("gauge-disks@1.0.1")
        client.export("gauge-disks@1.0.1", target)
        assert client.difference(version, "gauge-disks@1.0.1").changed_bytes < 2 * MIB
    assert (made.parent, made.mode, made.source["edited_from"]) == (version, "edit", version)
    assert made.sizes.new < MIB
    e2fsck(target)
    for needle in (b"Halvane Tide Office\n"[:-1], b"ssh-ed25519 AAAAC3Nz orla", b"192.0.2.250 buoy"):
        assert holds(target, needle)
    bad = cli("edit", version, "--steps", str(sheet), "--number", "1.0.1")
    assert bad.returncode == 4 and "exists already" in bad.stderr
    sheet.write_text("steps:\n- {id: a, do: run-inside, argv: [true]}\n")
    assert cli("edit", version, "--steps", str(sheet), "--bump", "patch").returncode == 2


def test_an_import_survives_kill_9_of_the_database(system: System, exported: Path) -> None:
    with system.core as client:
        upload = client.upload(exported, region="skerry-1")
        started = client.import_image(upload=upload.id, line="gauge-disks", number="7.0.0")
        system.when_running(started, "fetch")
        system.kill("postgres")
        time.sleep(0.5)
        system.revive()
        client.wait(started.id)
        assert [v.number for v in client.versions("gauge-disks") if v.number == "7.0.0"] == ["7.0.0"]
