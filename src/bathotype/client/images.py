"""Calls about disks as files: exports, uploads, imports, edits."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any

from bathotype.client.calls import Part, ProfileGiven
from bathotype.client.operations import OperationCalls
from bathotype.core.formats.names import ExportFormat
from bathotype.core.lifecycle.purpose import Purpose
from bathotype.core.lifecycle.target import Target
from bathotype.wire import images, targets
from bathotype.wire import operations as work


@dataclass(frozen=True)
class Exported:
    """A disk that was written to a file; sizes in bytes."""

    file: Path
    size: int
    data_bytes: int
    content_digest: str


class ImageCalls(OperationCalls):
    """Disks out and in."""

    def export(
        self,
        reference: str,
        target: Path,
        *,
        region: str | None = None,
        disk: str | None = None,
        on_progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> Exported:
        """Write a raw disk of a version to a file: sparse, resumable, every chunk verified.  ``disk`` is its role."""
        from bathotype.client.download import download  # NumPy takes a while to load: only who exports pays for it

        manifest = download(self._transport, reference, region, disk, target, on_progress)
        return Exported(target, manifest.size, manifest.data_bytes, manifest.content_digest)

    def export_file(
        self,
        reference: str,
        target: Path,
        form: str,
        *,
        region: str | None = None,
        disk: str | None = None,
        on_progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> images.ExportedFile:
        """Write a version to a file of any format: resumable, and its SHA-256 compared with the service's."""
        from bathotype.client.download import download_file

        def learn() -> None:
            self.wait(self.work_out_digest(reference, form, region=region, disk=disk).id)

        return download_file(self._transport, reference, region, disk, form, target, on_progress, learn)

    def export_to_bucket(
        self,
        reference: str,
        to: str,
        form: ExportFormat,
        *,
        region: str | None = None,
        disk: str | None = None,
        overwrite: bool = False,
        key: str | None = None,
    ) -> work.Operation:
        """Write a version to ``s3://BUCKET/KEY``, a bucket of the operator's list."""
        body = images.ExportRequest(to=to, format=form, disk=disk, region=region, overwrite=overwrite)
        return self._create(work.Operation, f"/versions/{reference}/exports", body.model_dump(mode="json"), key)

    def digest_in_bucket(self, address: str, *, key: str | None = None) -> work.Operation:
        """Have ``s3://BUCKET/KEY`` read once; the operation's result has its ``bytes`` and ``sha256``."""
        return self._create(
            work.Operation, "/bucket-digests", images.BucketFile(address=address).model_dump(mode="json"), key
        )

    def work_out_digest(
        self, reference: str, form: str, *, region: str | None = None, disk: str | None = None
    ) -> work.Operation:
        """Have a version read as a file once, so that its SHA-256 is known."""
        params = {"format": form, "region": region, "disk": disk}
        return self._transport.one(work.Operation, "POST", f"/versions/{reference}/disk-digests", params=params)

    def upload(
        self, file: Path, *, region: str, on_progress: Callable[[int, int], None] = lambda done, total: None
    ) -> images.Upload:
        """Bring a file to a region's store; an earlier upload of the same file that was cut short is taken up."""
        from bathotype.client.upload import upload

        return upload(self._transport, file, region, on_progress)

    def drop_upload(self, upload: str) -> None:
        """Give an upload up."""
        self._transport.call("DELETE", f"/uploads/{upload}")

    def inspect_import(
        self,
        *,
        line: str,
        upload: str | None = None,
        url: str | None = None,
        region: str | None = None,
        format: images.ImageFormat | None = None,
        number: str | None = None,
        bump: Part | None = None,
        profile: ProfileGiven | None = "linux",
        notes: str = "",
        purpose: Purpose | None = None,
        retire_on: date | None = None,
    ) -> images.ImportInspection:
        """What an import depends on."""
        body = images.ImportRequest(
            line=line, upload=upload, url=url, region=region, format=format, number=number, bump=bump, profile=profile,
            notes=notes, purpose=purpose, retire_on=retire_on,
        )  # fmt: skip
        return self._transport.one(
            images.ImportInspection, "POST", "/import-inspections", json=body.model_dump(mode="json")
        )

    def import_image(
        self,
        *,
        line: str,
        upload: str | None = None,
        url: str | None = None,
        region: str | None = None,
        format: images.ImageFormat | None = None,
        number: str | None = None,
        bump: Part | None = None,
        profile: ProfileGiven | None = "linux",
        notes: str = "",
        purpose: Purpose | None = None,
        retire_on: date | None = None,
        key: str | None = None,
    ) -> work.Operation:
        """Import a file that was uploaded, or one in a bucket, as a staged version."""
        body = images.ImportRequest(
            line=line, upload=upload, url=url, region=region, format=format, number=number, bump=bump, profile=profile,
            notes=notes, purpose=purpose, retire_on=retire_on,
        )  # fmt: skip
        return self._create(work.Operation, "/imports", body.model_dump(mode="json"), key)

    def check_target(
        self,
        target: Target,
        *,
        reference: str | None = None,
        upload: str | None = None,
        url: str | None = None,
        format: images.ImageFormat | None = None,
    ) -> targets.TargetCheck:
        """Judge a version or a file by the demands of another place."""
        body = targets.TargetCheckRequest(target=target, reference=reference, upload=upload, url=url, format=format)
        return self._transport.one(targets.TargetCheck, "POST", "/target-checks", json=body.model_dump(mode="json"))

    def edit(
        self,
        *,
        reference: str,
        steps: list[dict[str, Any]],
        number: str | None = None,
        bump: Part | None = None,
        notes: str = "",
        purpose: Purpose | None = None,
        retire_on: date | None = None,
        region: str | None = None,
        even_unchanged: bool = False,
        key: str | None = None,
    ) -> work.Operation:
        """A new version from an old one, by typed steps on its disk."""
        body = images.EditRequest(
            reference=reference, steps=steps, number=number, bump=bump, notes=notes, region=region,
            purpose=purpose, retire_on=retire_on, even_unchanged=even_unchanged,
        )  # fmt: skip
        return self._create(work.Operation, "/edits", body.model_dump(mode="json"), key)

    def plan_edit(
        self,
        *,
        reference: str,
        steps: list[dict[str, Any]],
        number: str | None = None,
        bump: Part | None = None,
        notes: str = "",
        purpose: Purpose | None = None,
        retire_on: date | None = None,
        region: str | None = None,
        even_unchanged: bool = False,
    ) -> images.EditPlan:
        """What an edit would change, path by path."""
        body = images.EditRequest(
            reference=reference, steps=steps, number=number, bump=bump, notes=notes, region=region,
            purpose=purpose, retire_on=retire_on, even_unchanged=even_unchanged,
        )  # fmt: skip
        return self._transport.one(images.EditPlan, "POST", "/edit-plans", json=body.model_dump(mode="json"))
