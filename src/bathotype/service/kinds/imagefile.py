"""An image file that an operation reads: unpacked, looked at, and its used blocks brought to scratch."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from dataclasses import dataclass
from pathlib import Path

from bathotype.core.confined.imagefile import (
    BRING,
    PACKING,
    UNPACK,
    FileQuestion,
    PackedQuestion,
)
from bathotype.core.disk.source import open_file
from bathotype.core.generalize.profile import Profile
from bathotype.core.units import iec
from bathotype.service.imagefiles import MORE_THAN_THE_DISK, Examined, examine, open_source, packed_in_words
from bathotype.service.kinds.scratch import GrowingFile, PlacedPieces
from bathotype.service.operations.context import WorkContext
from bathotype.service.records import Upload


@dataclass(frozen=True)
class ImageFile:
    """A file by its upload or its address in a bucket; ``form`` is its format, where somebody named it.

    ``profile`` is what its disk is to be generalized with, None where it stays as it is.
    """

    context: WorkContext
    region: str
    upload: str | None
    url: str | None
    form: str | None
    profile: Profile | None

    def _upload(self) -> Upload | None:
        if not self.upload:
            return None
        with self.context.session() as session:
            found = session.get_one(Upload, self.upload)
            session.expunge(found)
            return found

    @property
    def _unpacked(self) -> Path:
        """Where a packed file lies once it is unpacked."""
        return self.context.scratch / "unpacked"

    def unpack(self) -> bool | None:
        """Unpack a file that is packed as a whole; False for others."""
        reach, region = self.context.reach, self.region
        self.context.reader.start()
        _, file = open_source(reach, self.context.account_name, self._upload(), self.url)
        packing = self.context.reader.ask(PACKING, FileQuestion(self.form), file)
        if packing is None:
            return False
        most = reach.site(region, self.context.account_name).limits().largest_disk + MORE_THAN_THE_DISK
        with GrowingFile(self.context, self._unpacked) as target:
            self.context.reader.ask(UNPACK, PackedQuestion(packing, most), file, pieces=target.add)
        self.context.log(f"The file was {packed_in_words(packing)}: {iec(file.size)} became {iec(target.size)}.")
        return None

    @contextmanager
    def examined(self) -> Iterator[Examined]:
        """The file as it is now; what was unpacked of it is open until the end of the block."""
        with open_file(self._unpacked) if self._unpacked.exists() else nullcontext() as inner:
            yield examine(
                self.context.reader,
                self.context.reach,
                self.context.account_name,
                upload=self._upload(),
                url=self.url,
                form=self.form,
                region=self.region,
                profile=self.profile,
                scratch_bytes=self.context.settings.scratch_bytes,
                inner=inner,
            )

    def bring(self, found: Examined) -> None:
        """The used blocks, as a sparse raw file in scratch.  Raises `Refused` with every obstacle."""
        found.refuse()
        assert found.image is not None and found.image.look is not None and found.file is not None
        with PlacedPieces(self.context, found.image.look.layout.disks, found.image.look.used.total) as target:
            self.context.reader.ask(BRING, FileQuestion(self.form), found.file, pieces=target.add)
