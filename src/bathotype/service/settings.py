"""Settings, from the environment (``BATHOTYPE_...``) and the regions file."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

import yaml
from pydantic import BaseModel, ConfigDict, ValidationError
from pydantic_settings import BaseSettings, SettingsConfigDict

from bathotype.core.errors import Invalid


class SiteAccess(BaseModel):
    """How one account reaches the sites: its token there, and tags put on everything created."""

    model_config = ConfigDict(extra="forbid")

    token: str
    tags: dict[str, str] = {}


class Region(BaseModel):
    """One region: its site's address and its store."""

    model_config = ConfigDict(extra="forbid")

    site: str
    store: str


class Bucket(BaseModel):
    """An S3-compatible bucket that images are imported from: what to sign in with, and which accounts may."""

    model_config = ConfigDict(extra="forbid")

    region: str
    endpoint: str = ""
    access_key_id: str = ""
    secret_access_key: str = ""
    accounts: list[str]

    @property
    def store_settings(self) -> dict[str, str]:
        """What obstore is given."""
        named = {k: v for k, v in self.model_dump(exclude={"accounts"}).items() if v}
        return named if self.access_key_id else {**named, "skip_signature": "true"}


class Places(BaseModel):
    """The regions file: where regions are and how accounts reach their sites.  It holds secrets: mode 0600."""

    model_config = ConfigDict(extra="forbid")

    regions: dict[str, Region]
    accounts: dict[str, SiteAccess]
    buckets: dict[str, Bucket] = {}


class Settings(BaseSettings):
    """What a process of the service needs to know."""

    model_config = SettingsConfigDict(env_prefix="BATHOTYPE_")

    database_url: str
    regions_file: Path
    scratch_dir: Path = Path("/var/tmp/bathotype-scratch")
    scratch_bytes: int = 64 * 1024**3
    freeze_seconds: float = 5.0
    reconcile_seconds: int = 15
    log_level: str = "info"

    @property
    def places(self) -> Places:
        """The regions file, read once."""
        return _places(self.regions_file)


@lru_cache
def _places(path: Path) -> Places:
    try:
        return Places.model_validate(yaml.safe_load(path.read_text()))
    except (OSError, yaml.YAMLError, ValidationError) as error:
        raise Invalid(f"The regions file {path} cannot be used: {error}", advice="See docs/operating.md.") from error
