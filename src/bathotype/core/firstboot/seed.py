"""The NoCloud seed: a volume labelled CIDATA with meta-data, user-data and network-config.

Follows cloud-init's documentation of the NoCloud data source and of network configuration version 2.
"""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass, field
from email.mime.multipart import MIMEMultipart
from email.mime.text import MIMEText
from typing import Any

import yaml

from bathotype.core.firstboot.addresses import interface_of
from bathotype.core.firstboot.settings import FirstBoot, Network, SecretFile, User
from bathotype.core.firstboot.volume import volume_of
from bathotype.core.generalize.prepared import answers_for, names_answered
from bathotype.core.generalize.profile import AnswerFile

LABEL = "CIDATA"


@dataclass(frozen=True)
class Seed:
    """The three texts of a seed, and more files by their names, for systems that read another one than cloud-init's."""

    meta_data: str
    user_data: str
    network_config: str
    files: Mapping[str, bytes] = field(default_factory=dict)

    def volume(self) -> bytes:
        """The seed as the bytes of an ISO 9660 volume, small enough to keep in memory."""
        texts = {
            "meta-data": self.meta_data,
            "user-data": self.user_data,
            "network-config": self.network_config,
        }
        return volume_of(LABEL, {**{name: text.encode() for name, text in texts.items()}, **self.files})


def build_seed(
    settings: FirstBoot,
    *,
    instance_id: str,
    host_name: str,
    mac: str = "",
    answers: AnswerFile | None = None,
    secrets: Mapping[str, str] | None = None,
) -> Seed:
    """The seed that makes one instance itself; with the answer file of a system that reads such a one.

    ``secrets`` are the values of those that the settings name.

    ``mac`` names its first network card.  Without it the card is taken to be called ``eth0``: not every renderer of
    cloud-init understands a match by pattern.
    """
    meta = {"instance-id": instance_id, "local-hostname": host_name}
    return Seed(
        yaml.safe_dump(meta, sort_keys=False),
        _user_data(settings, host_name, secrets or {}),
        yaml.safe_dump(_network(settings, mac), sort_keys=False),
        {} if answers is None else {answers.name: _answers(answers, settings, instance_id, host_name)},
    )


def _answers(file: AnswerFile, settings: FirstBoot, instance_id: str, host_name: str) -> bytes:
    network, users = settings.network, [_answered_user(user) for user in settings.users]
    static = None if network.mode != "static" or not network.addresses else _answered_network(network)
    return answers_for(file, _values(settings, instance_id, host_name), users, static)


def _answered_user(user: User) -> dict[str, str]:
    return {
        "user_name": user.name,
        "full_name": user.full_name or "",
        "groups": ",".join(user.groups),
        "administrator": "true" if user.administrator else "false",
        "ssh_public_keys": "\n".join(user.ssh_public_keys),
    }


def _answered_network(network: Network) -> dict[str, str]:
    first = interface_of(network.addresses[0])
    return {
        "addresses": " ".join(network.addresses),
        "address": str(first.ip),
        "prefix": str(first.network.prefixlen),
        "gateway": network.gateway or "",
        "name_servers": " ".join(network.name_servers),
        "search": " ".join(network.search),
    }


def unanswered(file: AnswerFile, settings: FirstBoot) -> list[str]:
    """Settings that a system which reads an answer file does not get, since the file does not name them."""
    named = names_answered(file)
    asked = {
        "domain": settings.domain,
        "time zone": settings.time_zone,
        "locale": settings.locale,
        "users": settings.users,
        "network": settings.network.mode == "static",
        "ssh_public_keys": settings.ssh_public_keys,
        "secrets": settings.secrets,
        "user_data": settings.user_data,
    }
    missing = [what for what, value in asked.items() if value and what.replace(" ", "_") not in named]
    if not missing:
        return []
    told = ", ".join(what.replace("_", " ") for what in missing)
    return [f"Its system reads {file.name} at first boot, which does not name: {told}. An instance does not get that."]


def _values(settings: FirstBoot, instance_id: str, host_name: str) -> dict[str, str]:
    """What an answer file may name."""
    return {
        "host_name": host_name,
        "instance_id": instance_id,
        "domain": settings.domain or "",
        "time_zone": settings.time_zone or "",
        "locale": settings.locale or "",
    }


def _user_data(settings: FirstBoot, host_name: str, secrets: Mapping[str, str]) -> str:
    config: dict[str, Any] = {"hostname": host_name, "preserve_hostname": False, "manage_etc_hosts": True}
    if settings.domain:
        config["fqdn"] = f"{host_name}.{settings.domain}"
    if settings.time_zone:
        config["timezone"] = settings.time_zone
    if settings.locale:
        config["locale"] = settings.locale
    if settings.ssh_public_keys:
        config["ssh_authorized_keys"] = settings.ssh_public_keys
    config["ssh_deletekeys"] = True
    # Said, since a system's own settings may turn it off: a boot disk may be larger than the version's.
    config["growpart"] = {"mode": "auto", "devices": ["/"], "ignore_growroot_disabled": True}
    config["resize_rootfs"] = True
    if settings.users:
        config["users"] = ["default", *[_user(user) for user in settings.users]]
    if settings.secrets:
        config["write_files"] = [_secret_file(one, secrets[one.secret]) for one in settings.secrets]
    own = "#cloud-config\n" + yaml.safe_dump(config, sort_keys=False)
    if not settings.user_data:
        return own
    parts = MIMEMultipart(boundary="bathotype-first-boot")
    for text in (own, settings.user_data):
        kind = "x-shellscript" if text.startswith("#!") else "cloud-config"
        part = MIMEText(text, kind, "utf-8")
        part.add_header("Content-Disposition", "attachment", filename=f"part-{len(parts.get_payload())}")
        parts.attach(part)
    return parts.as_string()


def _secret_file(wanted: SecretFile, value: str) -> dict[str, str]:
    content = base64.b64encode(value.encode()).decode()
    return {"path": wanted.place, "content": content, "encoding": "b64", "permissions": wanted.mode}


def _user(user: Any) -> dict[str, Any]:
    out: dict[str, Any] = {"name": user.name, "shell": user.shell, "lock_passwd": True}
    if user.full_name:
        out["gecos"] = user.full_name
    if user.groups:
        out["groups"] = user.groups
    if user.administrator:
        out["sudo"] = "ALL=(ALL) NOPASSWD:ALL"
    if user.ssh_public_keys:
        out["ssh_authorized_keys"] = user.ssh_public_keys
    return out


def _network(settings: FirstBoot, mac: str) -> dict[str, Any]:
    interface: dict[str, Any] = {"match": {"macaddress": mac.lower()}, "set-name": "eth0"} if mac else {}
    network = settings.network
    if network.mode == "dhcp":
        interface["dhcp4"] = True
    else:
        interface["addresses"] = network.addresses
        if network.gateway:
            interface["routes"] = [{"to": "default", "via": network.gateway}]
    if network.name_servers or network.search:
        servers = {"addresses": network.name_servers, "search": network.search}
        interface["nameservers"] = {name: value for name, value in servers.items() if value}
    return {"version": 2, "ethernets": {"eth0": interface}}
