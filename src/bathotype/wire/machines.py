"""Machines at a site, and what prevents a capture of one."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.wire.common import Answer, Page, Plan

MachineState = Literal["running", "stopped"]


class MachineDisk(Answer):
    """A disk in a machine; ``size`` in bytes."""

    id: str
    name: str
    size: int
    boot: bool


class Machine(Answer):
    """A virtual machine at a site; ``version`` is what it stems from, where that is known."""

    id: str
    name: str
    region: str
    zone: str
    machine_size: str
    state: MachineState
    address: str
    tags: dict[str, str]
    disks: list[MachineDisk]
    version: str | None = None
    instance: str | None = Field(default=None, description="Id of the instance that it is, where it is one.")
    captured: str | None = Field(default=None, description="The newest version that was captured from it.")
    captured_at: datetime | None = None
    created_at: datetime
    agent: Literal["answers", "silent"] | None = Field(default=None, description="Null where it was not asked.")
    os: str | None = Field(default=None, description="As the agent reports it, where it was asked.")


MachineSort = Literal["region", "-region", "name", "-name", "state", "-state"]


class Machines(Page[Machine]):
    """Machines of one region or all; ``problems`` says which regions do not answer, and why."""

    problems: dict[str, str] = {}


class Remark(Answer):
    """One thing that preflight looked at: ``obstacle`` forbids a capture, ``warning`` does not."""

    check: str
    outcome: Literal["ok", "warning", "obstacle"]
    why: str
    advice: str = Field(default="", description="What to do about it.")


class Inspection(Plan):
    """What a capture depends on: every obstacle and warning at once."""

    machine: Machine
    mode: str
    capturable: bool
    remarks: list[Remark]
    used_bytes: int | None = Field(default=None, description="Bytes in use on the boot disk, if known.")
