"""Import: from an image file to a staged version."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

from bathotype.core.confined.asking import look
from bathotype.core.confined.changing import IDENTIFY
from bathotype.core.confined.imagefile import BRING, CHECK, UNPACK, FileQuestion, PackedQuestion
from bathotype.core.disk.source import ByteSource, open_file
from bathotype.core.generalize.profile import Profile
from bathotype.core.units import iec
from bathotype.service.imagefiles import MORE_THAN_THE_DISK, Examined, examine, open_source, packed_as, source_record
from bathotype.service.kinds.generalizing import GivenProfile, generalize_copy, need_tools, profile_for
from bathotype.service.kinds.making import MakingKind, MakingMemo, MakingParams
from bathotype.service.kinds.scratch import GrowingFile, PlacedPieces, open_copy
from bathotype.service.operations.kind import Step
from bathotype.service.records import Upload
from bathotype.service.uploads import discard


class ImportParams(MakingParams):
    """The file (an upload or an address), its format, and the profile; None imports the disk as it is."""

    upload: str | None = None
    url: str | None = None
    format: str | None = None
    profile: GivenProfile | None = "linux"


class ImportMemo(MakingMemo):
    """What every kind that makes a version remembers."""


class Import(MakingKind[ImportParams, ImportMemo]):
    """Unpack, check, bring the used blocks to scratch, generalize, store, judge, record."""

    name = "import"
    params_type, memo_type = ImportParams, ImportMemo
    steps = (
        Step("unpack", "Unpack the file", 3, restart_from="unpack"),
        Step("check", "Check the file", restart_from="unpack"),
        Step("fetch", "Bring the used blocks", 6, restart_from="unpack"),
        Step("generalize", "Generalize the copy", 3, restart_from="unpack"),
        Step("store", "Store new chunks", 6, restart_from="unpack"),
        Step("scan", "Look for residue and take stock", 3),
        Step("seal", "Seal the version"),
    )

    @property
    def _profile(self) -> Profile | None:
        return None if self.params.profile is None else profile_for(self.params.profile)

    def _upload(self) -> Upload | None:
        if not self.params.upload:
            return None
        with self.context.session() as session:
            found = session.get_one(Upload, self.params.upload)
            session.expunge(found)
            return found

    @contextmanager
    def _examined(self) -> Iterator[Examined]:
        """The file as it is now; what was unpacked of it is open until the end of the block."""
        with open_file(self._unpacked) if self._unpacked.exists() else nullcontext() as inner:
            yield self._examine(inner)

    def _examine(self, inner: ByteSource | None) -> Examined:
        return examine(
            self.context.reader,
            self.context.reach,
            self.context.account_name,
            upload=self._upload(),
            url=self.params.url,
            form=self.params.format,
            region=self.params.region,
            profile=self._profile,
            scratch_bytes=self.context.settings.scratch_bytes,
            inner=inner,
        )

    @property
    def _unpacked(self) -> Path:
        """Where a packed file lies once it is unpacked."""
        return self.context.scratch / "unpacked"

    def unpack(self) -> bool | None:
        """Unpack a file that is packed as a whole; nothing to do for others."""
        reach, region = self.context.reach, self.params.region
        self.context.reader.start()
        _, file = open_source(reach, self.context.account_name, self._upload(), self.params.url)
        packing = packed_as(file, self.params.format)
        if packing is None:
            return False
        most = reach.site(region, self.context.account_name).limits().largest_disk + MORE_THAN_THE_DISK
        with GrowingFile(self.context, self._unpacked) as target:
            self.context.reader.ask(UNPACK, PackedQuestion(packing, most), file, pieces=target.add)
        self.context.log(f"The file was packed with {packing}: {iec(file.size)} became {iec(target.size)}.")
        return None

    def check(self) -> None:
        """Run all checks again, and check the digests that an archive carries."""
        if self._profile is not None:
            need_tools()
        with self._examined() as found:
            for warning in found.remarks.warnings:
                self.context.log(warning, "warning")
            found.refuse()
            assert found.image is not None and found.file is not None
            if found.image.has_digests:
                question = FileQuestion(self.params.format)
                listed = self.context.reader.ask(CHECK, question, found.file, progress=self.context.progress)
                self.context.log("The archive's digests are right." if listed else "The archive lists no digests.")
            self.memo.source, self.memo.identity = source_record(found, self.params.url), {}
        self.save()

    def fetch(self) -> None:
        """The used blocks, as a sparse raw file in scratch."""
        with self._examined() as found:
            found.refuse()
            assert found.image is not None and found.image.look is not None and found.file is not None
            with PlacedPieces(self.context, found.image.look.layout.disks, found.image.look.used.total) as target:
                self.context.reader.ask(BRING, FileQuestion(self.params.format), found.file, pieces=target.add)

    def generalize(self) -> bool | None:
        """Make the profile's changes on the copy."""
        profile = self._profile
        if profile is None:
            return False
        self.memo.take(generalize_copy(self.context, profile, self.memo.identity))
        self.memo.profile = {"name": profile.name, "digest": profile.digest}
        self.save()
        return None

    def store(self) -> None:
        """Store the chunks that the region does not have yet."""
        if self._profile is not None:
            self.store_image()
            return
        with open_copy(self.context) as image:
            found = look(self.context.reader, image)
            if found.has_root:
                self.memo.identity = self.context.reader.ask(IDENTIFY, self.memo.identity, image)
            self.store_disk(image, found.used)

    def scan(self) -> None:
        """Scan what was stored."""
        self.judge_stored(identity_kept=self._profile is None)

    def seal(self) -> None:
        """Record the version."""
        self.record_version(mode="import", told_source=str(self.memo.source["file"]))

    def clean_up(self, outcome: str) -> None:
        super().clean_up(outcome)
        if outcome == "succeeded" and self.params.upload:
            discard(self.context.database.sessions, self.context.store(self.params.region), self.params.upload)
