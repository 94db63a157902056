"""Git repositories that sheets come from."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field

from bathotype.core.sheets.steps import Scalar
from bathotype.wire.common import Answer, Revised, Wire, example

RepositorySort = Literal["name", "-name", "read", "-read"]


class RepositoryRequest(Wire):
    """A branch of a repository, and a folder of it, whose sheets are the account's."""

    model_config = example({"address": "https://git.tide.example/images/sheets", "branch": "main", "folder": "sheets"})

    address: str = Field(max_length=1000, description="https, ssh, or file, on a host that the operator names.")
    branch: str = Field(default="main", max_length=200)
    folder: str = Field(default="", max_length=500, description="The sheets are there, and below; the top if left out.")
    secret: str | None = Field(
        default=None, max_length=63,
        description="The secret that opens it: USER:PASSWORD or a token for https, a private key for ssh.",
    )  # fmt: skip
    signers: list[str] = Field(
        default=[], max_length=100,
        description="Who must have signed its newest commit, with a key of SSH: lines of an allowed-signers file.",
    )  # fmt: skip
    values: dict[str, Scalar] = Field(
        default={}, max_length=50, description="Values of parameters, for those of its sheets that have them."
    )
    every_minutes: int = Field(
        default=5, ge=0, le=1440, description="How often it is looked at; 0: after pushes alone."
    )


class NoSheet(Answer):
    """A file that is meant to be a sheet, and why it is none."""

    path: str
    why: str


class RepositorySheet(Answer):
    """A sheet that comes from a repository."""

    name: str
    path: str
    withdrawn: bool = Field(description="Whether it is not there any more: it does not run by itself then.")


class Repository(Revised):
    """A repository, and what was read of it last."""

    edited = ("address", "branch", "folder", "secret", "signers", "values", "every_minutes")

    id: str
    name: str
    address: str
    branch: str
    folder: str
    secret: str | None
    signers: list[str]
    values: dict[str, Scalar]
    every_minutes: int
    made_by: str
    made_at: datetime
    commit: str = Field(description="The commit that was read last; empty before there was one.")
    author: str
    subject: str = Field(description="What its author wrote of it.")
    signer: str = Field(description="Who signed it, where somebody must.")
    committed_at: datetime | None
    read_at: datetime | None = Field(description="When it was seen last that this is the newest commit.")
    tried_at: datetime | None
    next_at: datetime | None = Field(description="When it is looked at next.")
    problem: str = Field(description="Why it could not be read last time; empty where it could.")
    wrong: list[NoSheet] = Field(
        description="Files of this commit that are no sheets; an earlier text stays as it was."
    )
    sheets: list[RepositorySheet]


class NewRepository(Repository):
    """A repository with the key that pushes to it are signed with."""

    key: str = Field(description="Shown once, where the repository is new.")
