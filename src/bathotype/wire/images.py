"""Bringing disks in and out: uploads, imports, edits, exported files."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field, model_validator

from bathotype.core.bucketaddress import check_object
from bathotype.core.formats.names import ExportFormat
from bathotype.core.forms import BUCKET_OBJECT
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.wire.common import Answer, Plan, Wire, example
from bathotype.wire.machines import Remark

ImageFormat = Literal["raw", "qcow2", "vhd", "vhdx", "vdi", "vmdk", "ova"]


class UploadRequest(Wire):
    """A file to bring in, in parts."""

    model_config = example({"name": "gauge.qcow2", "size": 73400320, "region": "skerry-1"})

    name: str = Field(min_length=1, max_length=255)
    size: int = Field(ge=1, le=1 << 46)
    region: str


class Upload(Answer):
    """An upload: ``parts`` are those that have arrived."""

    id: str
    name: str
    size: int
    region: str
    part_bytes: int
    parts: list[int]


class ImportRequest(Wire):
    """An import: exactly one of ``upload`` and ``url`` says where the file is."""

    model_config = example({"url": "s3://halvane-images/gauge.vmdk", "line": "gauge-collector", "number": "2.0.0"})

    upload: str | None = Field(default=None, description="Id of an upload.")
    url: str | None = Field(default=None, pattern=BUCKET_OBJECT, description="s3://BUCKET/KEY")
    region: str | None = Field(default=None, description="Where the version is stored; an upload's own region.")
    format: ImageFormat | None = None
    line: str
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    profile: str | dict[str, Any] | None = Field(
        default="linux", description="Profile to generalize by; null imports the disk as it is."
    )
    notes: str = Field(default="", max_length=10000)
    purpose: Purpose | None = Field(default=None, description="Left out: what the line's highest version is for.")
    retire_on: date | None = Field(default=None, description="When it retires by itself.")

    @model_validator(mode="after")
    def _one_source(self) -> ImportRequest:
        if (self.upload is None) == (self.url is None):
            raise ValueError("give either upload or url")
        return self


class PlannedChange(Answer):
    """A path that would be changed; ``bytes`` go away."""

    step: str
    action: str
    path: str
    bytes: int
    note: str


class ImportInspection(Plan):
    """Everything that an import depends on."""

    source: str
    format: str | None
    virtual_bytes: int | None
    used_bytes: int | None
    boot: list[str]
    architecture: str
    importable: bool
    remarks: list[Remark]
    changes: list[PlannedChange] = Field(default=[], description="What the profile would change, where it was tried.")


class EditRequest(Wire):
    """A new version from an old one, by steps on its disk."""

    model_config = example(
        {
            "reference": "gauge-collector@1.0.0",
            "bump": "patch",
            "steps": [{"id": "motd", "do": "put-file", "path": "/etc/motd", "content": "Halvane Tide Office\n"}],
        }
    )

    reference: str
    number: str | None = None
    bump: Literal["patch", "minor", "major"] | None = None
    steps: list[dict[str, Any]] = Field(min_length=1, max_length=500)
    notes: str = Field(default="", max_length=10000)
    purpose: Purpose | None = Field(default=None, description="Left out: what the line's highest version is for.")
    retire_on: date | None = Field(default=None, description="When it retires by itself.")
    region: str | None = Field(
        default=None,
        description="Left out: the first region of the line's placement that holds it, else where it was made.",
    )
    even_unchanged: bool = Field(default=False, description="Make a version even where the steps change nothing.")


class EditPlan(Plan):
    """What an edit would do."""

    region: str | None = Field(description="Where it would be made; null where it cannot.")
    changes: list[PlannedChange]


class ExportRequest(Wire):
    """A version as an object in a bucket."""

    model_config = example({"to": "s3://halvane-images/gauges/gauge-collector-1.0.0.qcow2", "format": "qcow2"})

    to: Annotated[str, AfterValidator(check_object)] = Field(max_length=1200, description="s3://BUCKET/KEY")
    format: ExportFormat
    disk: str | None = Field(default=None, max_length=16, description="Role of the disk, of several.")
    region: str | None = Field(default=None, description="Where it is read; left out: nearest to its home.")
    overwrite: bool = Field(default=False, description="Replace what is there.")


class BucketFile(Wire):
    """An object in a bucket that the operator has named."""

    model_config = example({"address": "s3://halvane-images/gauges/gauge.qcow2"})

    address: Annotated[str, AfterValidator(check_object)] = Field(max_length=1200, description="s3://BUCKET/KEY")


class ExportedFile(Answer):
    """A version as a file of a format."""

    reference: str
    format: str
    disk: str | None = Field(default=None, description="Role of the disk; null where it holds all.")
    name: str
    size: int
    sha256: str
