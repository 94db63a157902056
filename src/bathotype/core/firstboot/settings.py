"""First-boot settings as data, with patterns for names of many instances."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from bathotype.core.errors import Invalid
from bathotype.core.faults import faults_of
from bathotype.core.forms import DOMAIN, FILE_MODE, GUEST_ACCOUNT, form
from bathotype.core.sheets.steps import whole_path

_KEY = re.compile(r"(?:ssh-(?:ed25519|rsa)|ecdsa-sha2-nistp\d+|sk-[\w@.-]+) [A-Za-z0-9+/]+={0,2}(?: [^\n]*)?")
_HOST = re.compile(r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?")
#: How a secret of an account is called.
SECRET_NAME = r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?"
_SECRET = form(f"^{SECRET_NAME}$", "the name of a secret: lower-case letters, digits and hyphens")
_COUNTER = re.compile(r"\{n(?::0?(\d))?\}")


class User(BaseModel):
    """A user that first boot creates."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    name: str = Field(pattern=GUEST_ACCOUNT)
    full_name: str = ""
    groups: list[str] = []
    shell: str = "/bin/bash"
    administrator: bool = Field(default=False, description="May become root by sudo without a password.")
    ssh_public_keys: list[str] = []

    @field_validator("ssh_public_keys")
    @classmethod
    def _check_keys(cls, value: list[str]) -> list[str]:
        return check_keys(value)


class Network(BaseModel):
    """How the first network interface gets its address."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    mode: Literal["dhcp", "static"] = "dhcp"
    addresses: list[str] = Field(
        default=[], max_length=16, description="Of one instance, static mode only: addresses with prefix length."
    )
    pool: list[str] = Field(
        default=[],
        max_length=256,
        description="For many instances, static mode only: each takes one. Addresses with prefix length, or ranges.",
        examples=[["192.0.2.10-192.0.2.19/24"]],
    )
    gateway: str | None = None
    name_servers: list[str] = Field(default=[], max_length=16, description="Addresses of DNS servers.")
    search: list[Annotated[str, Field(pattern=DOMAIN)]] = Field(
        default=[], max_length=16, description="Domains in which short names are looked up."
    )


class SecretFile(BaseModel):
    """A secret of the account that first boot writes to a file: a licence key, a token to join with."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    secret: str = Field(pattern=_SECRET, description="Its name in the account.")
    path: str | None = Field(
        default=None,
        max_length=4096,
        description="Left out: /run/bathotype/NAME, which is memory: gone after a restart.",
    )
    mode: str = Field(default="0600", pattern=FILE_MODE)

    @property
    def place(self) -> str:
        """Where the file is."""
        return self.path or f"/run/bathotype/{self.secret}"

    @field_validator("path")
    @classmethod
    def _whole(cls, value: str | None) -> str | None:
        if value is None:
            return None
        if "." in value.split("/"):  # two names of one file would not be seen to be one
            raise ValueError(f"{value[:60]!r} must be an absolute path without '.'")
        return whole_path(value)


class FirstBoot(BaseModel):
    """All settings.  ``host_name`` may hold ``{n}`` or ``{n:03}``, the instance's number; by default the host
    name is the instance's name."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    host_name: str | None = Field(default=None, examples=["gauge-{n:02}"])
    domain: str | None = Field(default=None, pattern=DOMAIN, max_length=189)
    time_zone: str | None = Field(
        default=None,
        pattern=form(r"^[A-Za-z0-9_+/-]+$", "the name of a time zone, such as Etc/UTC"),
        examples=["Etc/UTC"],
    )
    locale: str | None = Field(
        default=None, pattern=form(r"^[A-Za-z0-9_.@-]+$", "the name of a locale, such as en_GB.UTF-8")
    )
    network: Network = Network()
    users: list[User] = []
    ssh_public_keys: list[str] = Field(default=[], description="May log in as the image's default user.")
    secrets: list[SecretFile] = Field(default=[], max_length=20, description="Secrets of the account, as files.")
    user_data: str | None = Field(
        default=None, max_length=65536, description="Passed on as it is; #cloud-config or #!."
    )

    @field_validator("ssh_public_keys")
    @classmethod
    def _check_keys(cls, value: list[str]) -> list[str]:
        return check_keys(value)

    @field_validator("user_data")
    @classmethod
    def _check_user_data(cls, value: str | None) -> str | None:
        if value and not value.startswith(("#!", "#cloud-config")):
            raise ValueError("user data begins with '#!' (a script) or '#cloud-config'")
        return value


def check_keys(keys: list[str]) -> list[str]:
    """SSH public keys in the form of authorized_keys(5).  A private key is refused, loudly."""
    for key in keys:
        if "PRIVATE KEY" in key:
            raise ValueError("this is a private key; give the public one (the file that ends in .pub)")
        if not _KEY.fullmatch(key.strip()):
            raise ValueError("not an SSH public key")
    return keys


def first_boot_of(data: Any) -> FirstBoot:
    """Read settings from plain data.  Raises `Invalid` with every fault."""
    try:
        return FirstBoot.model_validate(data or {})
    except ValidationError as error:
        raise Invalid(
            f"The first-boot settings are not valid: {faults_of(error, data)}.",
            advice="See docs/first-boot.md for the settings.",
        ) from error


def numbered(pattern: str, number: int, *, many: bool) -> str:
    """A name from a pattern: ``numbered('gauge-{n:02}', 7, many=True) == 'gauge-07'``.

    Where many are made from a pattern without a counter, one is added.  Raises `Invalid` unless the result is
    a host name label (RFC 1123).
    """
    if many and not _COUNTER.search(pattern):
        pattern += "-{n}"
    name = _COUNTER.sub(lambda m: f"{number:0{m[1] or 1}d}", pattern)
    if not _HOST.fullmatch(name):
        raise Invalid(
            f"{pattern!r} makes the name {name!r}, which is not a host name.",
            advice="Use lower-case letters, digits and hyphens, with {n} or {n:03} for the instance's number.",
        )
    return name
