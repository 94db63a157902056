"""What is signed of a version: an in-toto Statement v1 with provenance after the pattern of SLSA Provenance v1.

The subject is the version, named by its content digest (BLAKE3 over size and chunk digests, docs/store-format.md).
Whoever the version is shared with reads the statement: of the machine that it was made from, and of the profile, it holds
digests alone.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from bathotype.core.errors import Damaged
from bathotype.core.signing.envelope import BadSignature

_STATEMENT = "https://in-toto.io/Statement/v1"
_PREDICATE = "https://slsa.dev/provenance/v1"
_BUILD_TYPE = "urn:bathotype:version:2"
#: Of statements that hold source and profile themselves: they are not made any more, and still count.
_OPEN_BUILD_TYPE = "urn:bathotype:version:1"


@dataclass(frozen=True)
class VersionFacts:
    """What a statement says of a version; ``parent`` is the content digest that it descends from."""

    account: str
    line: str
    number: str
    version_id: str
    content_digest: str
    size: int
    mode: str
    source: Mapping[str, Any]
    profile: Mapping[str, Any] | None
    operation: str
    parent: str | None
    created_at: datetime
    #: The proof sheet, of which the statement holds a digest; None for versions from before there were any.
    proof: Mapping[str, Any] | None = None
    #: Role, size and content digest of each disk; a statement lists them where there are several.
    disks: Sequence[Mapping[str, Any]] = ()


def statement_of(facts: VersionFacts, *, build_type: str = _BUILD_TYPE) -> dict[str, Any]:
    """The statement about a version."""
    about: dict[str, Any] = {"mode": facts.mode}
    if build_type == _OPEN_BUILD_TYPE:
        about |= {"source": dict(facts.source), "profile": facts.profile}
    else:
        about |= {"source": digest_of(facts.source), "profile": digest_of(facts.profile)}
    if facts.proof is not None:
        about["proof"] = digest_of(facts.proof)
    inner: dict[str, Any] = {"version": facts.version_id, "size": facts.size}
    if len(facts.disks) > 1:
        inner["disks"] = [
            {"role": d["role"], "size": d["bytes"], "digest": dict([d["digest"].split(":", 1)])} for d in facts.disks
        ]
    algorithm, _, value = facts.content_digest.partition(":")
    parents = [{"uri": "urn:bathotype:parent", "digest": dict([facts.parent.split(":", 1)])}] if facts.parent else []
    return {
        "_type": _STATEMENT,
        "subject": [{"name": f"{facts.account}/{facts.line}@{facts.number}", "digest": {algorithm: value}}],
        "predicateType": _PREDICATE,
        "predicate": {
            "buildDefinition": {
                "buildType": build_type,
                "externalParameters": about,
                "internalParameters": inner,
                "resolvedDependencies": parents,
            },
            "runDetails": {
                "builder": {"id": "urn:bathotype"},
                "metadata": {
                    "invocationId": facts.operation,
                    "finishedOn": facts.created_at.astimezone(UTC).isoformat(timespec="microseconds"),
                },
            },
        },
    }


def digest_of(value: Mapping[str, Any] | None) -> dict[str, str] | None:
    """SHA-256 over a value as JSON, with its names in order and without blanks."""
    if value is None:
        return None
    text = json.dumps(dict(value), sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return {"sha256": hashlib.sha256(text.encode()).hexdigest()}


def check_statement(statement: Mapping[str, Any], facts: VersionFacts) -> None:
    """Raises `BadSignature` unless a signed statement says of a version what its record says."""
    told = statement.get("predicate", {}).get("buildDefinition", {}).get("buildType")
    expected = statement_of(facts, build_type=_OPEN_BUILD_TYPE if told == _OPEN_BUILD_TYPE else _BUILD_TYPE)
    if statement != expected:
        raise BadSignature(
            f"{facts.account}/{facts.line}@{facts.number} is not what was signed: "
            f"its record differs in {', '.join(_differences(expected, statement)) or 'its form'}.",
            advice="Do not use this version. Ask its owner.",
        )


def _differences(ours: Any, theirs: Any, at: str = "") -> list[str]:
    if isinstance(ours, Mapping) and isinstance(theirs, Mapping):
        found = []
        for key in sorted({*ours, *theirs}):
            found += _differences(ours.get(key), theirs.get(key), f"{at}.{key}" if at else str(key))
        return found
    return [] if ours == theirs else [at]


def check_digest(facts: VersionFacts, held: str) -> None:
    """Raises `Damaged` unless a manifest's content digest is the signed one."""
    if held != facts.content_digest:
        raise Damaged(
            f"{facts.account}/{facts.line}@{facts.number}: the manifest is of other content than the record.",
            advice="Verify the replica, or use another region.",
            code="digest-differs",
        )
