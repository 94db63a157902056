"""Import: from an image file to a staged version."""

from __future__ import annotations

from bathotype.core.confined.asking import look
from bathotype.core.confined.changing import IDENTIFY
from bathotype.core.confined.imagefile import CHECK, FileQuestion
from bathotype.core.generalize.profile import Profile
from bathotype.service.imagefiles import source_record
from bathotype.service.kinds.generalizing import GivenProfile, generalize_copy, need_tools, profile_for
from bathotype.service.kinds.imagefile import ImageFile
from bathotype.service.kinds.making import MakingKind, MakingMemo, MakingParams
from bathotype.service.kinds.scratch import open_copy
from bathotype.service.operations.kind import Step
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
        Step("fetch", "Copy the used blocks", 6, restart_from="unpack"),
        Step("generalize", "Generalize the copy", 3, restart_from="unpack"),
        Step("store", "Store new chunks", 6, restart_from="unpack"),
        Step("scan", "Look for residue and take stock", 3),
        Step("seal", "Seal the version"),
    )

    @property
    def _profile(self) -> Profile | None:
        return None if self.params.profile is None else profile_for(self.params.profile)

    @property
    def _file(self) -> ImageFile:
        params = self.params
        return ImageFile(self.context, params.region, params.upload, params.url, params.format, self._profile)

    def unpack(self) -> bool | None:
        """Unpack a file that is packed as a whole; nothing to do for others."""
        return self._file.unpack()

    def check(self) -> None:
        """Run all checks again, and check the digests that an archive carries."""
        if self._profile is not None:
            need_tools()
        with self._file.examined() as found:
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
        with self._file.examined() as found:
            self._file.bring(found)

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
