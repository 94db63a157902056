"""Settings, from the environment (``BATHOTYPE_...``) and the regions file."""

from __future__ import annotations

import os
import secrets
from functools import lru_cache
from pathlib import Path
from typing import Any, Literal

from cryptography.fernet import Fernet, MultiFernet
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator
from pydantic_settings import BaseSettings, SettingsConfigDict

from bathotype.core.errors import Invalid
from bathotype.core.faults import Fault, faults_in, place_of
from bathotype.core.forms import form
from bathotype.core.plainyaml import read_plain
from bathotype.sites.factory import kinds_of_site


class SiteAccess(BaseModel):
    """How one account reaches the sites: its token there, and tags put on everything created."""

    model_config = ConfigDict(extra="forbid")

    token: str
    tags: dict[str, str] = {}


class Region(BaseModel):
    """One region: the address and kind of its site, and its store."""

    model_config = ConfigDict(extra="forbid")

    site: str
    store: str
    kind: str = Field(default="standin", description="The site adapter: a folder of bathotype.sites.")

    @field_validator("kind")
    @classmethod
    def _known(cls, kind: str) -> str:
        if kind not in kinds_of_site():
            raise ValueError(f"there is no site adapter {kind!r}; there are {', '.join(kinds_of_site())}")
        return kind


class LinkLimits(BaseModel):
    """The network link between two regions: its distance as latency, and its bandwidth limit in bytes per second."""

    model_config = ConfigDict(extra="forbid")

    distance_ms: float = Field(default=50.0, ge=0)
    bytes_per_second: float | None = Field(default=None, gt=0)


class OidcAccess(BaseModel):
    """An OpenID Connect provider that people may sign in with."""

    model_config = ConfigDict(extra="forbid")

    issuer: str
    client_id: str
    client_secret: str


class Bucket(BaseModel):
    """An S3-compatible bucket that images are imported from or exported to, or a folder in its place: its credentials, the
    accounts that may read it, and those that may write it."""

    model_config = ConfigDict(extra="forbid")

    folder: str = Field(
        default="",
        pattern=form("^(/.+)?$", "an absolute path"),
        description="A folder of the hosts, instead of a store.",
    )
    region: str = ""
    endpoint: str = ""
    access_key_id: str = ""
    secret_access_key: str = ""
    accounts: list[str]
    writers: list[str] = []

    @model_validator(mode="after")
    def _somewhere(self) -> Bucket:
        if bool(self.folder) == bool(self.region):
            raise ValueError("give either a region of a store, or a folder")
        return self

    @property
    def store_settings(self) -> dict[str, str]:
        """The configuration for obstore's S3 store."""
        named = {k: v for k, v in self.model_dump(exclude={"accounts", "writers"}).items() if v}
        return named if self.folder or self.access_key_id else {**named, "skip_signature": "true"}


class MailServer(BaseModel):
    """Where mail is handed over (SMTP, RFC 5321; submission with TLS, RFC 8314)."""

    model_config = ConfigDict(extra="forbid")

    host: str
    port: int = Field(default=587, ge=1, le=65535)
    security: Literal["starttls", "tls", "none"] = "starttls"
    user: str = ""
    password: str = ""
    sender: str


class MessagePlaces(BaseModel):
    """Where messages about events may go; nowhere unless it is named."""

    model_config = ConfigDict(extra="forbid")

    hosts: list[str] = Field(default=[], description="Hosts of webhooks; `*` stands for any part of a name.")
    mail: MailServer | None = None
    mail_to: list[str] = Field(default=[], description="Addresses that mail may go to, such as `*@tide.example`.")


class RepositoryPlaces(BaseModel):
    """Which git repositories may be read; none unless it is named."""

    model_config = ConfigDict(extra="forbid")

    hosts: list[str] = Field(default=[], description="Hosts, by https and ssh; `*` stands for any part of a name.")
    folders: list[Path] = Field(default=[], description="Folders of the worker's host in which repositories are.")
    payload_hosts: list[str] = Field(
        default=[], description="Hosts that files of a payload may be fetched from, by https; `*` as above."
    )
    known_hosts: list[str] = Field(default=[], description="Host keys for ssh: lines as sshd(8) has them.")
    authorities: Path | None = Field(default=None, description="Certificates (PEM) in the place of the system's.")


class Places(BaseModel):
    """The regions file: where regions are and how accounts reach their sites.  It holds secrets: mode 0600."""

    model_config = ConfigDict(extra="forbid")

    regions: dict[str, Region]
    accounts: dict[str, SiteAccess]
    buckets: dict[str, Bucket] = {}
    links: dict[str, LinkLimits] = Field(default={}, description="Keys are 'one/other'; they hold both ways.")
    oidc: OidcAccess | None = None
    messages: MessagePlaces = MessagePlaces()
    repositories: RepositoryPlaces = RepositoryPlaces()
    host_account: str | None = Field(default=None, description="Its stewards set launch rules for all accounts.")

    def link(self, one: str, other: str) -> LinkLimits:
        """The link between two regions; the limits of one direction hold for both."""
        return self.links.get(f"{one}/{other}") or self.links.get(f"{other}/{one}") or LinkLimits()


_ENVIRONMENT = "BATHOTYPE_"


def _fault(fault: Fault) -> str:
    """What is wrong with one value."""
    words = fault.words
    return "is not set" if fault.errors[0]["type"] == "missing" else f"cannot be used: {words[:1].lower()}{words[1:]}"


class Settings(BaseSettings):
    """What a process of the service needs to know."""

    model_config = SettingsConfigDict(env_prefix=_ENVIRONMENT)

    database_url: str
    #: For ``bathotype schema upgrade`` alone: the role that owns the tables, where the service's own does not.
    owner_database_url: str = ""
    regions_file: Path
    public_url: str = ""
    secret_file: Path | None = None
    scratch_dir: Path = Path("/var/tmp/bathotype-scratch")
    scratch_bytes: int = 64 * 1024**3
    freeze_seconds: float = 5.0
    reconcile_seconds: int = 15
    scrub_days: float = 30.0
    scrub_at_once: int = 2
    transfer_streams: int = 4
    log_level: str = "info"
    metrics_token: str = ""
    #: For tests: see `bathotype.service.operations.killpoints`.
    kill_file: Path | None = None

    @classmethod
    def from_environment(cls) -> Settings:
        """The settings of this process.  Raises `Invalid` with each variable that is missing or wrong."""
        given: dict[str, Any] = {}
        try:
            return cls(**given)
        except ValidationError as error:
            faults = [
                f"{_ENVIRONMENT}{str(e['loc'][0]).upper()} {_fault(Fault(e['loc'], (e,)))}" for e in error.errors()
            ]
            raise Invalid(f"{'. '.join(faults)}.", advice="See docs/operating.md.") from error

    @property
    def places(self) -> Places:
        """The regions file, read once."""
        return _places(self.regions_file)

    @property
    def scratch(self) -> Path:
        """The folder for copies of disks, made if need be; nobody else may look into it.

        Raises `Invalid` where it belongs to somebody else.
        """
        folder = self.scratch_dir
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        about = folder.stat()
        if about.st_uid != os.geteuid():
            raise Invalid(
                f"The scratch folder {folder} belongs to another user.",
                advice="Set BATHOTYPE_SCRATCH_DIR to a folder of the worker's own user.",
            )
        if about.st_mode & 0o077:
            folder.chmod(0o700)
        return folder

    @property
    def secret_path(self) -> Path:
        """The secret file: every process of a service needs the same."""
        return self.secret_file or self.regions_file.with_name("bathotype.secret")

    @property
    def secrets(self) -> tuple[bytes, ...]:
        """The service's keys: the first one seals, all of them open.  The file is made with one where there is none."""
        return _keys(self.secret_path)

    @property
    def box(self) -> MultiFernet:
        """What seals and opens what the database holds sealed.  Raises `Invalid` for a file that holds no keys."""
        try:
            return MultiFernet([Fernet(key) for key in self.secrets])
        except ValueError as error:
            raise Invalid(
                f"The secret file {self.secret_path} holds something that is no key.",
                advice="A key is a line of 44 characters. See docs/operating.md.",
            ) from error


@lru_cache
def _places(path: Path) -> Places:
    try:
        given = read_plain(path.read_bytes(), f"The regions file {path}", advice="See docs/operating.md.")
        return Places.model_validate(given)
    except OSError as error:
        raise Invalid(
            f"The regions file {path} cannot be read: {error.strerror}.", advice="See docs/operating.md."
        ) from error
    except ValidationError as error:
        found = faults_in(error.errors(), given)[:5]
        faults = "; ".join(f"{place_of(one.place) or 'it'} {_fault(one)}" for one in found)
        raise Invalid(f"The regions file {path}: {faults}.", advice="See docs/operating.md.") from error


@lru_cache
def _keys(path: Path) -> tuple[bytes, ...]:
    try:
        if not path.exists():
            fresh = path.with_name(f".{path.name}.{secrets.token_hex(8)}")
            fresh.touch(mode=0o600)
            fresh.write_bytes(Fernet.generate_key())
            try:
                os.link(fresh, path)  # of several that need it for the first time one makes it
            except FileExistsError:
                pass
            fresh.unlink()
        return tuple(path.read_bytes().split())
    except OSError as error:
        raise Invalid(
            f"The secret file {path} cannot be used: {error.strerror}.", advice="See docs/operating.md."
        ) from error
