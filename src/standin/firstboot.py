"""What a modelled Linux guest does when it starts: identity where it has none, and its NoCloud seed.

Reads the seed that a real guest would read (a volume labelled CIDATA) and does what a first-boot agent does
with it: host name, host keys, users, keys, time zone, network, files.
"""

from __future__ import annotations

import base64
import email
import io
import json
import secrets
from dataclasses import dataclass
from typing import Any

import pycdlib
import yaml
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519

from standin.guestfiles import Edits, GuestFiles

_INSTANCE = "/var/lib/cloud/data/instance-id"
#: What is read at a start: at one go, since each look at the disk is a process.
_READ = ("/etc/machine-id", _INSTANCE, "/etc/hosts", "/etc/passwd", "/etc/shadow", "/etc/group")


@dataclass(frozen=True)
class Seed:
    """A seed's parts, parsed."""

    meta: dict[str, Any]
    config: dict[str, Any]
    scripts: list[str]
    network: dict[str, Any]


def read_seed(volume: bytes) -> Seed | None:
    """Read a seed volume; None where it is not one."""
    iso = pycdlib.PyCdlib()
    try:
        iso.open_fp(io.BytesIO(volume))
    except pycdlib.pycdlibexception.PyCdlibException:
        return None
    try:
        label = iso.pvd.volume_identifier.decode("ascii", "replace").strip().lower()
        if label != "cidata":
            return None
        texts = {}
        for name in ("meta-data", "user-data", "network-config"):
            out = io.BytesIO()
            iso.get_file_from_iso_fp(out, rr_path=f"/{name}")
            texts[name] = out.getvalue().decode()
    finally:
        iso.close()
    config, scripts = _user_data(texts["user-data"])
    return Seed(
        yaml.safe_load(texts["meta-data"]) or {}, config, scripts, yaml.safe_load(texts["network-config"]) or {}
    )


def _user_data(text: str) -> tuple[dict[str, Any], list[str]]:
    config: dict[str, Any] = {}
    scripts: list[str] = []
    parts = [text]
    if text.startswith("Content-Type: multipart") or "MIME-Version" in text.split("\n\n")[0]:
        parts = [
            bytes(p.get_payload(decode=True)).decode()
            for p in email.message_from_string(text).walk()
            if not p.is_multipart()
        ]
    for part in parts:
        if part.startswith("#cloud-config"):
            config.update(yaml.safe_load(part) or {})
        elif part.startswith("#!"):
            scripts.append(part)
    return config, scripts


def start_linux(files: GuestFiles, seed: Seed | None, memory: dict[str, bytes]) -> list[str]:
    """Do what happens at start; returns lines for the serial console.  What lies below /run goes to ``memory``."""
    edits = Edits()
    console = []
    found = files.read_all(*_READ)
    machine_id = found["/etc/machine-id"].decode().strip()
    if machine_id in ("", "uninitialized"):
        machine_id = secrets.token_hex(16)
        edits.write("/etc/machine-id", machine_id + "\n", mode=0o444)
        console.append("systemd[1]: Initializing machine ID from random generator.")
    if seed is not None:
        done = found[_INSTANCE].decode().strip()
        wanted = str(seed.meta.get("instance-id", ""))
        if wanted and wanted != done:
            if seed.config.get("growpart", {}).get("mode", "auto") != "off" and (grown := files.grow()):
                console.append(grown)
            console += _first_boot(files, edits, seed, wanted, memory, found)
    elif not any(n.startswith("ssh_host_") and n.endswith("_key") for n in files.names("/etc/ssh")):
        _host_keys(edits, "localhost")
        console.append("sshd-keygen: generated host keys")
    if edits.written or edits.removed:
        files.change(edits)
    return console


def _first_boot(
    files: GuestFiles, edits: Edits, seed: Seed, instance: str, memory: dict[str, bytes], found: dict[str, bytes]
) -> list[str]:
    config = seed.config
    host = str(config.get("hostname") or seed.meta.get("local-hostname") or "localhost")
    full = str(config.get("fqdn") or host)
    edits.write("/etc/hostname", host + "\n")
    hosts = (found["/etc/hosts"] or b"127.0.0.1 localhost\n").decode()
    kept = [line for line in hosts.splitlines() if not line.startswith("127.0.1.1")]
    names = full if full == host else f"{full} {host}"
    edits.write("/etc/hosts", "\n".join([*kept, f"127.0.1.1 {names}"]) + "\n")
    if config.get("ssh_deletekeys", True):
        for name in files.names("/etc/ssh"):
            if name.startswith("ssh_host_"):
                edits.remove(f"/etc/ssh/{name}")
    _host_keys(edits, host)
    if config.get("timezone"):
        edits.write("/etc/timezone", str(config["timezone"]) + "\n")
    if config.get("locale"):
        edits.write("/etc/default/locale", f"LANG={config['locale']}\n")
    if seed.network:
        edits.write("/etc/netplan/50-cloud-init.yaml", yaml.safe_dump({"network": seed.network}), mode=0o600)
    _users(edits, config, found)
    for item in config.get("write_files", []):
        data = base64.b64decode(item["content"]) if item.get("encoding") == "b64" else str(item.get("content", ""))
        if item["path"].startswith("/run/"):
            memory[item["path"]] = data if isinstance(data, bytes) else data.encode()
        else:
            edits.write(item["path"], data, mode=int(str(item.get("permissions", "0644")), 8))
    for number, script in enumerate(seed.scripts):
        edits.write(f"/var/lib/cloud/instances/{instance}/scripts/part-{number}", script, mode=0o700)
    edits.write(_INSTANCE, instance + "\n")
    edits.write(f"/var/lib/cloud/instances/{instance}/user-data.txt", yaml.safe_dump(config), mode=0o600)
    edits.write(
        "/var/lib/cloud/data/result.json", json.dumps({"v1": {"datasource": "DataSourceNoCloud", "errors": []}})
    )
    return [
        f"cloud-init[412]: DataSourceNoCloud: instance-id {instance}",
        f"cloud-init[412]: set hostname to {host}",
        "cloud-init[598]: generated ed25519 and ecdsa host keys",
        "cloud-init[871]: finished. Datasource DataSourceNoCloud",
    ]


def _host_keys(edits: Edits, host: str) -> None:
    for kind, key in (
        ("ed25519", ed25519.Ed25519PrivateKey.generate()),
        ("ecdsa", ec.generate_private_key(ec.SECP256R1())),
    ):
        private = key.private_bytes(
            serialization.Encoding.PEM, serialization.PrivateFormat.OpenSSH, serialization.NoEncryption()
        )
        public = key.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
        edits.write(f"/etc/ssh/ssh_host_{kind}_key", private, mode=0o600)
        edits.write(f"/etc/ssh/ssh_host_{kind}_key.pub", public + f" root@{host}\n".encode())


def _users(edits: Edits, config: dict[str, Any], found: dict[str, bytes]) -> None:
    passwd, shadow, group = (found[f"/etc/{name}"].decode().splitlines() for name in ("passwd", "shadow", "group"))
    known = {line.split(":")[0]: line.split(":") for line in passwd}
    uid = max([int(f[2]) for f in known.values() if 1000 <= int(f[2]) < 60000] or [999]) + 1
    default_keys = config.get("ssh_authorized_keys", [])
    if default_keys:
        first = next((f for f in known.values() if f[2] == "1000"), ["root", "", "0", "", "", "/root"])
        _keys(edits, first[5], int(first[2]), default_keys)
    for user in config.get("users", []):
        if not isinstance(user, dict):
            continue
        name = user["name"]
        if name not in known:
            home = f"/home/{name}"
            passwd.append(f"{name}:x:{uid}:{uid}:{user.get('gecos', '')}:{home}:{user.get('shell', '/bin/bash')}")
            shadow.append(f"{name}:!:20000:0:99999:7:::")
            group.append(f"{name}:x:{uid}:")
            known[name] = passwd[-1].split(":")
            edits.write(f"{home}/.profile", "# ~/.profile\n", owner=uid)
            uid += 1
        fields = known[name]
        _keys(edits, fields[5], int(fields[2]), user.get("ssh_authorized_keys", []))
        if user.get("sudo"):
            edits.write("/etc/sudoers.d/90-cloud-init-users", f"{name} {user['sudo']}\n", mode=0o440)
    edits.write("/etc/passwd", "\n".join(passwd) + "\n")
    edits.write("/etc/shadow", "\n".join(shadow) + "\n", mode=0o640)
    edits.write("/etc/group", "\n".join(group) + "\n")


def _keys(edits: Edits, home: str, owner: int, keys: list[str]) -> None:
    if keys:
        edits.write(f"{home}/.ssh/authorized_keys", "\n".join(keys) + "\n", mode=0o600, owner=owner)
