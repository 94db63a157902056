"""Every kind of operation by its name."""

from __future__ import annotations

from collections.abc import Mapping

from bathotype.service.builds.kind import Build
from bathotype.service.kinds import KINDS as PLAIN_KINDS
from bathotype.service.operations.kind import AnyKind

KINDS: Mapping[str, type[AnyKind]] = {**PLAIN_KINDS, Build.name: Build}
