"""What another place demands of an image before it takes it in: a file of ours, judged row by row."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from bathotype.core.contents.platform import Platform
from bathotype.core.units import bytes_of, iec, plural

_Name = Annotated[str, Field(min_length=1, max_length=200)]


class Target(BaseModel):
    """The demands of a place; what is left out is not demanded."""

    model_config = ConfigDict(extra="forbid", frozen=True, defer_build=True)

    name: _Name
    largest_disk: int | None = Field(default=None, ge=1, description="In bytes, or a text such as '2 TiB'.")
    most_disks: int | None = Field(default=None, ge=1, description="How many disks a machine may have there.")
    formats: list[_Name] = Field(default=[], max_length=16, description="Formats that it takes; empty for all.")
    no_checkpoints: bool = Field(default=False, description="The file holds no snapshots of the disk.")
    boot: list[Literal["bios", "uefi"]] = Field(default=[], description="It boots by one of these.")
    signed_loader: bool = Field(default=False, description="The UEFI loader is signed, as secure boot demands.")
    no_trusted_module: bool = Field(
        default=False, description="No secret is bound to a machine's trusted module (TPM)."
    )
    architectures: list[_Name] = Field(default=[], max_length=16)
    disk_drivers: list[_Name] = Field(default=[], max_length=16, description="It can drive disks by one of these.")
    network_drivers: list[_Name] = Field(default=[], max_length=16, description="Network cards by one of these.")
    systems: list[_Name] = Field(
        default=[], max_length=64, description="Its operating system, as os-release names it (ID)."
    )
    packages: list[_Name] = Field(default=[], max_length=100, description="All of these are installed.")
    without_packages: list[_Name] = Field(default=[], max_length=100, description="None of these is installed.")
    generalized: bool = Field(default=False, description="It does not keep the identity of its source.")
    no_high_findings: bool = Field(default=False, description="No finding of high severity is open.")

    @field_validator("largest_disk", mode="before")
    @classmethod
    def _size(cls, value: object) -> object:
        return bytes_of(value) if isinstance(value, str) else value


@dataclass(frozen=True)
class Candidate:
    """What is known of an image; None where it is not."""

    disk_bytes: int
    platform: Platform
    system: str | None = None
    packages: frozenset[str] | None = None
    format: str | None = None
    checkpoints: int | None = None
    generalized: bool | None = None
    high_findings: int | None = None
    #: How many disks it has; ``disk_bytes`` is the size of the largest.
    disks: int = 1


@dataclass(frozen=True)
class Row:
    """One demand: met, not met (``obstacle``), or not known (``warning``); what is there, and what to change."""

    check: str
    outcome: Literal["ok", "warning", "obstacle"]
    why: str
    advice: str = ""


def judge(target: Target, image: Candidate) -> list[Row]:
    """Every demand of a target, each against the image."""
    return [
        *_disk(target, image),
        *_platform(target, image.platform),
        *_contents(target, image),
        *_state(target, image),
    ]


def fits(rows: list[Row]) -> bool:
    """Whether everything that is demanded is known and met."""
    return all(row.outcome == "ok" for row in rows)


def _disk(target: Target, image: Candidate) -> Iterator[Row]:
    if target.largest_disk is not None:
        fit = image.disk_bytes <= target.largest_disk
        why = f"The disk has {iec(image.disk_bytes)}; the target takes {iec(target.largest_disk)} at most."
        yield Row("disk", "ok" if fit else "obstacle", why, "" if fit else "Make it smaller where it was made.")
    if target.most_disks is not None:
        fit = image.disks <= target.most_disks
        why = f"It has {plural(image.disks, 'disk')}; the target takes {target.most_disks} at most."
        yield Row("disks", "ok" if fit else "obstacle", why, "" if fit else "Capture the boot disk alone.")
    if target.formats:
        advice = f"Export it as {' or '.join(target.formats)}."
        if image.format is None:
            yield Row("format", "ok", f"It is written as {' or '.join(target.formats)} when it is exported.")
        else:
            yield _one_of("format", "The format is", image.format, target.formats, advice)
    if target.no_checkpoints:
        if image.checkpoints:
            advice = "Import it and export it again: a version has none."
            yield Row(
                "checkpoints",
                "obstacle",
                f"The file holds {plural(image.checkpoints, 'snapshot')} of the disk.",
                advice,
            )
        else:
            yield Row("checkpoints", "ok", "It holds no snapshots of the disk.")


def _platform(target: Target, needs: Platform) -> Iterator[Row]:
    for check, what, has, wanted, advice in (
        ("boot", "It boots by", needs.boot, target.boot, "Install a boot loader for it."),
        ("architecture", "It is made for", (needs.architecture,) if needs.architecture else (), target.architectures,
         "Take a build for that architecture."),
        ("disk-drivers", "It can drive disks by", needs.disk_drivers, target.disk_drivers, "Install such a driver."),
        ("network-drivers", "It can drive network cards by", needs.network_drivers, target.network_drivers,
         "Install such a driver."),
    ):  # fmt: skip
        if not wanted:
            continue
        if not has:
            yield Row(check, "warning", f"It is not known. {' or '.join(wanted)} is demanded.", "Look at it yourself.")
        else:
            fit = bool(set(has) & set(wanted))
            why = f"{what} {' and '.join(has)}; {' or '.join(wanted)} is demanded."
            yield Row(check, "ok" if fit else "obstacle", why, "" if fit else advice)
    if target.signed_loader:
        why = "Its UEFI loader is signed." if needs.signed_loader else "It has no signed UEFI loader."
        advice = "" if needs.signed_loader else "Install the signed loader of its system."
        yield Row("secure-boot", "ok" if needs.signed_loader else "obstacle", why, advice)
    if target.no_trusted_module:
        if needs.trusted_module:
            advice = "Remove that binding in the machine, or with a step of the profile."
            yield Row("trusted-module", "obstacle", "A secret of it is bound to a trusted module (TPM).", advice)
        else:
            yield Row("trusted-module", "ok", "Nothing of it is bound to a trusted module (TPM).")


def _contents(target: Target, image: Candidate) -> Iterator[Row]:
    if target.systems:
        if not image.system:
            yield Row("system", "warning", "Its operating system is not known.", "Look at it yourself.")
        else:
            yield _one_of("system", "The system is", image.system, target.systems, "Take another base.")
    for check, names, there in (("packages", target.packages, True), ("without", target.without_packages, False)):
        if not names:
            continue
        if image.packages is None:
            yield Row(check, "warning", "Its packages are not known.", "Look at it yourself.")
            continue
        wrong = sorted(name for name in names if (name in image.packages) is not there)
        if wrong:
            verb = "Install" if there else "Remove"
            state = "not installed" if there else "installed"
            yield Row(
                check, "obstacle", f"{', '.join(wrong)}: {state}.", f"{verb} {' '.join(wrong)}, and make it again."
            )
        else:
            yield Row(check, "ok", f"{', '.join(sorted(names))}: {'installed' if there else 'not installed'}.")


def _state(target: Target, image: Candidate) -> Iterator[Row]:
    if target.generalized:
        if image.generalized is None:
            yield Row("generalized", "warning", "Whether it keeps the identity of its source is not known.")
        else:
            why = "It is generalized." if image.generalized else "It keeps the identity of its source."
            advice = "" if image.generalized else "Capture or import it with a profile."
            yield Row("generalized", "ok" if image.generalized else "obstacle", why, advice)
    if target.no_high_findings:
        if image.high_findings is None:
            yield Row("findings", "warning", "It was not scanned.", "Import it: the scan is a part of that.")
        else:
            count = image.high_findings
            advice = "Remove them, or accept each by name." if count else ""
            yield Row(
                "findings", "obstacle" if count else "ok", f"{plural(count, 'finding')} of high severity open.", advice
            )


def _one_of(check: str, what: str, has: str, wanted: list[str], advice: str) -> Row:
    fit = has in wanted
    why = f"{what} {has}; {' or '.join(wanted)} is demanded."
    return Row(check, "ok" if fit else "obstacle", why, "" if fit else advice)
