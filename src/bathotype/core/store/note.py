"""What a capture notes for the next one of the same machine, so that only changed ranges need be read.

A version's chunk may stand for the machine's own bytes where the machine has not written since, the capture took the
same part of it, and generalization did not change it.  The note holds the last two: the ranges that were taken, and
the chunks that were edited.  It lies in the region's store beside the manifest (docs/store-format.md).
"""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass

import numpy as np

from bathotype.core.disk.ranges import Ranges
from bathotype.core.errors import Damaged
from bathotype.core.store.ingest import Chunks
from bathotype.core.store.manifest import Manifest

_MOST = 256 * 1024 * 1024


@dataclass(frozen=True)
class CaptureNote:
    """The ranges of the disk that a capture took, and chunks whose bytes are not the machine's own."""

    taken: Ranges
    edited: Chunks

    @classmethod
    def of(cls, taken: Ranges, before: Manifest | None, after: Manifest) -> CaptureNote:
        """``before`` is the table of the copy before it was generalized, None where nothing was changed."""
        edited = after.changed_since(before) if before is not None else np.empty(0, np.int64)
        return cls(taken, Chunks(edited))

    def fresh(self, used: Ranges, changed: Ranges, size: int) -> Chunks:
        """Chunks that must be read from the machine: written since, taken in another extent, or edited."""
        other = used.minus(self.taken, size).union(self.taken.minus(used, size))
        touched = Chunks.touched(changed.union(other))
        return Chunks(np.union1d(touched.index, self.edited.index))

    def dumps(self) -> bytes:
        """The note as stored: a NumPy archive."""
        out = io.BytesIO()
        np.savez_compressed(out, starts=self.taken.starts, ends=self.taken.ends, edited=self.edited.index)
        return out.getvalue()

    @classmethod
    def loads(cls, data: bytes) -> CaptureNote:
        """Read a stored note.  Raises `Damaged`."""
        try:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                if sum(i.file_size for i in archive.infolist()) > _MOST:
                    raise Damaged("A capture note is impossibly large.")
            with np.load(io.BytesIO(data), allow_pickle=False) as tables:
                starts, ends, edited = (tables[n].astype(np.int64) for n in ("starts", "ends", "edited"))
        except (ValueError, KeyError, OSError, zipfile.BadZipFile) as error:
            raise Damaged("A capture note cannot be read.") from error
        return cls(Ranges.of_arrays(starts, ends), Chunks(np.unique(edited)))
