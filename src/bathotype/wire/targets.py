"""Whether an image would be taken in at another place."""

from __future__ import annotations

from pydantic import Field, model_validator

from bathotype.core.forms import BUCKET_OBJECT
from bathotype.core.lifecycle.target import Target
from bathotype.wire.common import Answer, Wire, example
from bathotype.wire.images import ImageFormat
from bathotype.wire.machines import Remark


class TargetCheckRequest(Wire):
    """The demands of a target, and the image: exactly one of ``reference``, ``upload`` and ``url``."""

    model_config = example(
        {"target": {"name": "quay", "boot": ["uefi"], "largest_disk": "2 TiB"}, "reference": "gauge-collector@1.0.0"}
    )

    target: Target
    reference: str | None = None
    upload: str | None = Field(default=None, description="Id of an upload.")
    url: str | None = Field(default=None, pattern=BUCKET_OBJECT, description="s3://BUCKET/KEY")
    format: ImageFormat | None = Field(default=None, description="Of a file; recognised where left out.")

    @model_validator(mode="after")
    def _one_image(self) -> TargetCheckRequest:
        if sum(given is not None for given in (self.reference, self.upload, self.url)) != 1:
            raise ValueError("give one of reference, upload and url")
        return self


class TargetCheck(Answer):
    """Every demand, and whether it is met.  ``fits`` only where all are known and met."""

    target: str
    image: str
    fits: bool
    rows: list[Remark]
