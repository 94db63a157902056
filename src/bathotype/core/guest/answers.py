"""What a guest agent may answer, by the QEMU guest agent protocol: shape, types and lengths, checked before anything is
done with it.  Whoever runs the guest may have written the answers."""

from __future__ import annotations

import ipaddress
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, StringConstraints

_MOST_LINE, _MOST_NAMES = 1000, 10_000


def plain(text: str) -> str:
    """A text without characters that steer a terminal."""
    return "".join(c if c.isprintable() else "\N{REPLACEMENT CHARACTER}" for c in text)


Line = Annotated[str, StringConstraints(max_length=_MOST_LINE), AfterValidator(plain)]
OsInfo = Annotated[dict[Line, Any], Field(max_length=64)]
Handle = Annotated[int, Field(strict=True, ge=-(1 << 63), lt=1 << 63)]
Count = Annotated[int, Field(strict=True, ge=0, lt=1 << 31)]


class _Answer(BaseModel):
    model_config = ConfigDict(strict=True, frozen=True, populate_by_name=True)


class HostName(_Answer):
    """Of ``guest-get-host-name``."""

    host_name: Annotated[str, StringConstraints(max_length=255), AfterValidator(plain)] = Field(alias="host-name")


class Address(_Answer):
    """One address of an interface."""

    address: Line = Field(alias="ip-address")

    @property
    def is_one(self) -> bool:
        """Whether it is an address at all."""
        try:
            ipaddress.ip_address(self.address)
        except ValueError:
            return False
        return True


class Interface(_Answer):
    """One of ``guest-network-get-interfaces``."""

    name: Line
    addresses: list[Address] = Field(default=[], alias="ip-addresses", max_length=1000)


Interfaces = Annotated[list[Interface], Field(max_length=1000)]


class FileSystem(_Answer):
    """One of ``guest-get-fsinfo``."""

    mountpoint: Line
    total_bytes: Annotated[int, Field(strict=True, ge=0, lt=1 << 63)] | None = Field(default=None, alias="total-bytes")
    used_bytes: Annotated[int, Field(strict=True, ge=0, lt=1 << 63)] | None = Field(default=None, alias="used-bytes")


FileSystems = Annotated[list[FileSystem], Field(max_length=10_000)]


class Command(_Answer):
    """One command of ``guest-info``."""

    name: Line
    enabled: bool = True


class Info(_Answer):
    """Of ``guest-info``."""

    supported_commands: list[Command] = Field(max_length=_MOST_NAMES)


class Piece(_Answer):
    """Of ``guest-file-read``."""

    count: Count
    data: str = Field(alias="buf-b64")
    eof: bool


class Started(_Answer):
    """Of ``guest-exec``."""

    pid: Handle


class Status(_Answer):
    """Of ``guest-exec-status``."""

    exited: bool
    exit_code: int = Field(default=-1, alias="exitcode")
    out: str = Field(default="", alias="out-data")
    err: str = Field(default="", alias="err-data")


class Failure(_Answer):
    """The error that is in the place of an answer where a command failed."""

    description: Line = Field(default="", alias="desc")
    error_class: Line = Field(default="", alias="class")
