"""Generalization profiles: an ordered list of typed steps, as data.

The schema is documented in docs/profiles.md; ``Profile.model_json_schema()`` gives it as JSON Schema.
"""

from __future__ import annotations

import base64
import re
from functools import cache
from importlib import resources
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from bathotype.core.errors import Invalid, NotFound
from bathotype.core.expressions import for_text
from bathotype.core.faults import faults_of
from bathotype.core.forms import STEP_ID, form
from bathotype.core.guest.patterns import MOST_CHOICES, choices
from bathotype.core.lifecycle.references import check_name
from bathotype.core.plainyaml import read_plain
from bathotype.core.store.chunks import digest

_MOST_EXTENDS, _MOST_PATH = 8, 4096


def _absolute(paths: list[str]) -> list[str]:
    for path in paths:
        if not path.startswith("/") or "/../" in f"{path}/" or "//" in path:
            raise ValueError(f"{path!r} must be an absolute path without '..'")
        if len(path) > _MOST_PATH or "\0" in path or choices(path) > MOST_CHOICES:
            raise ValueError(f"{path[:40]!r} must have at most {_MOST_PATH} characters and {MOST_CHOICES} choices")
    return paths


def _listing(names: list[str]) -> str:
    """The first few of a list."""
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")


class _Step(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)

    id: str = Field(pattern=STEP_ID, description="Names the step in plans and records.")
    why: str = Field(default="", description="What the step protects from.")


class _PathStep(_Step):
    paths: list[str] = Field(min_length=1, description="Path patterns: * within a name, ** across folders.")

    _check_paths = field_validator("paths")(_absolute)


class Remove(_PathStep):
    """Remove files, or whole folders where a pattern matches a folder."""

    do: Literal["remove"]
    kind: Literal["any", "file", "link"] = Field(default="any", description="Only what is of this kind.")
    keep_folders: bool = Field(default=False, description="Remove files and links only; services need the folders.")
    besides: list[str] = Field(default=[], description="Patterns of what stays all the same.")

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Remove {_listing(self.paths)}"


class Empty(_PathStep):
    """Cut files to zero length, keeping their owner and mode."""

    do: Literal["empty"]

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Empty {_listing(self.paths)}"


class Write(_Step):
    """Write a small text file."""

    do: Literal["write"]
    path: str
    text: str = Field(max_length=65536)
    mode: int = Field(default=0o644, ge=0, le=0o7777)
    only_existing: bool = Field(default=True, description="Leave a file that is not there alone.")

    @field_validator("path")
    @classmethod
    def _check_path(cls, value: str) -> str:
        return _absolute([value])[0]

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Write {self.path}"


class DropLines(_PathStep):
    """Drop the lines that match a regular expression; ``{host_name}`` is replaced by the source's host name."""

    do: Literal["drop-lines"]
    match: str

    @field_validator("match")
    @classmethod
    def _check_match(cls, value: str) -> str:
        return _regex(value)

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Drop lines from {_listing(self.paths)}"


class SetLine(_PathStep):
    """Replace the lines that match a regular expression by one line, added at the end where none matches."""

    do: Literal["set-line"]
    match: str
    line: str = Field(pattern=form(r"^[^\n]*$", "one line"))

    @field_validator("match")
    @classmethod
    def _check_match(cls, value: str) -> str:
        return _regex(value)

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Set a line in {_listing(self.paths)}"


class RemoveUsers(_Step):
    """Remove users, with their home folders, mail spools, crontabs and group memberships."""

    do: Literal["remove-users"]
    users: list[str]

    @field_validator("users")
    @classmethod
    def _check_users(cls, value: list[str]) -> list[str]:
        if "root" in value:
            raise ValueError("root cannot be removed")
        for name in value:
            if not re.fullmatch(r"[a-z_][a-z0-9_.-]*\$?", name):
                raise ValueError(f"{name!r} is not a user name")
        return value

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Remove the users {_listing(self.users)}"


class ClearSwap(_Step):
    """Capture swap areas and swap files without their content; the header, with its UUID, stays."""

    do: Literal["clear-swap"]

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return "Leave out what swap holds"


class RunInside(_Step):
    """Run a program inside a booted copy, through its agent.  Such a profile cannot be applied offline."""

    do: Literal["run-inside"]
    argv: list[str] = Field(min_length=1)
    timeout_seconds: int = Field(default=600, ge=1, le=7200)

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Run {self.argv[0]}"


class Marker(BaseModel):
    """What the tool leaves on the disk when it has run: a file, and what is in it."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    path: str
    match: str = Field(description="A regular expression that a line of the file matches.")

    @field_validator("path")
    @classmethod
    def _check_path(cls, value: str) -> str:
        return _absolute([value])[0]

    @field_validator("match")
    @classmethod
    def _check_match(cls, value: str) -> str:
        return _regex(value)


class AnswerFile(BaseModel):
    """The file in which the system looks for its first-boot settings; ``{host_name}`` and the like are replaced.

    ``{users}`` stands for ``user`` once for each user, and ``{network}`` for ``network`` where the addresses are static.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(
        pattern=form(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$", "a plain file name"),
        description="Its name on the seed volume.",
    )
    template: str = Field(max_length=65536)
    user: str = Field(default="", max_length=4096, description="What is written of each user.")
    network: str = Field(default="", max_length=4096, description="What is written of static addresses.")


class OwnTool(_Step):
    """The operating system's own preparation tool generalizes the system: for guests whose files we do not edit.

    Whoever captures runs it in the machine before a stopped capture, which checks the marker.  A live capture runs it in
    a booted throwaway clone.
    """

    do: Literal["own-tool"]
    tool: str = Field(min_length=1, max_length=200, description="What people call it.")
    argv: list[str] = Field(min_length=1, max_length=64, description="How it is run in the machine.")
    shuts_down: Literal[True] = Field(default=True, description="It shuts the machine down when it has ended.")
    most_runs: int | None = Field(default=None, ge=1, description="How often one system may be prepared.")
    marker: Marker | None = Field(
        default=None, description="Without one, whoever captures confirms it with --prepared."
    )
    answers: AnswerFile | None = None
    timeout_seconds: int = Field(default=1800, ge=1, le=7200)

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Run {self.tool}"

    @property
    def instruction(self) -> str:
        """What whoever captures has to do."""
        often = f" It may be run {self.most_runs} times on one system." if self.most_runs else ""
        return f"Run {self.tool} in the machine: {' '.join(self.argv)}. It shuts the machine down.{often}"


class PutFile(_Step):
    """Write a file of any content, with the folders that lead to it; ``content_base64`` where it is not text."""

    do: Literal["put-file"]
    path: str
    content: str | None = Field(default=None, max_length=1 << 20)
    content_base64: str | None = Field(default=None, max_length=24 << 20)
    mode: int = Field(default=0o644, ge=0, le=0o7777)
    owner: str = Field(default="root", description="A user of the disk; the file gets the user's first group.")

    @field_validator("path")
    @classmethod
    def _check_path(cls, value: str) -> str:
        return _absolute([value])[0]

    @model_validator(mode="after")
    def _check_content(self) -> PutFile:
        if (self.content is None) == (self.content_base64 is None):
            raise ValueError("give either content or content_base64")
        return self

    @property
    def data(self) -> bytes:
        """The file's bytes."""
        return base64.b64decode(self.content_base64) if self.content_base64 is not None else str(self.content).encode()

    @field_validator("content_base64")
    @classmethod
    def _check_base64(cls, value: str | None) -> str | None:
        if value is not None:
            try:
                base64.b64decode(value, validate=True)
            except ValueError as error:
                raise ValueError("not base64") from error
        return value

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Put {self.path}"


class AuthorizeKey(_Step):
    """Let the holder of an SSH key log in as a user of the disk."""

    do: Literal["authorize-key"]
    user: str = Field(pattern=form(r"^[a-z_][a-z0-9_.-]*$", "the name of a user, in lower case"))
    key: str = Field(
        pattern=form(r"^(ssh|ecdsa|sk)-[^\n]+$", "an SSH public key: the line of a file that ends in .pub"),
        max_length=8192,
    )

    @property
    def says(self) -> str:
        """What the step does, in words."""
        return f"Let a key log in as {self.user}"


Step = Annotated[
    Remove
    | Empty
    | Write
    | DropLines
    | SetLine
    | RemoveUsers
    | ClearSwap
    | RunInside
    | OwnTool
    | PutFile
    | AuthorizeKey,
    Field(discriminator="do"),
]


class Profile(BaseModel):
    """A named list of steps; ``extends`` another, whose steps come first unless replaced by id or left out."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    about: str = ""
    extends: str | None = None
    without: list[str] = Field(default=[], description="Ids of inherited steps to leave out.")
    steps: list[Step] = []

    @field_validator("name")
    @classmethod
    def _check_name(cls, value: str) -> str:
        try:
            return check_name(value, "profile")
        except Invalid as error:
            raise ValueError(str(error)) from error

    @property
    def digest(self) -> str:
        """Distinguishes two profiles of one name."""
        return "blake3:" + digest(self.model_dump_json().encode()).hex()

    @property
    def own_tool(self) -> OwnTool | None:
        """The system's own preparation tool, where that generalizes it."""
        return next((step for step in self.steps if isinstance(step, OwnTool)), None)

    @model_validator(mode="after")
    def _tool_alone(self) -> Profile:
        if self.own_tool is not None and len(self.steps) > 1:
            raise ValueError("a profile with an own-tool step has no other step: its files are not edited")
        return self

    @property
    def runs_inside(self) -> bool:
        """Whether some step needs a booted copy."""
        return any(isinstance(step, RunInside) for step in self.steps)


def _regex(value: str) -> str:
    try:
        for_text(value.replace("{host_name}", "x"))
    except Invalid as error:
        raise ValueError(error.message.rstrip(".")) from error
    return value


def builtin_names() -> list[str]:
    """The profiles that ship with Bathotype."""
    folder = resources.files(__package__) / "profiles"
    return sorted(item.name.removesuffix(".yaml") for item in folder.iterdir() if item.name.endswith(".yaml"))


@cache
def builtin_profile(name: str) -> Profile:
    """One that ships.  Raises `NotFound`, naming those that do."""
    if name not in builtin_names():
        raise NotFound(
            f"There is no profile {name!r}.", advice=f"Built in: {', '.join(builtin_names())}; or give a file."
        )
    text = (resources.files(__package__) / "profiles" / f"{name}.yaml").read_text()
    return load_profile(text)


def load_profile(text: str) -> Profile:
    """Read YAML and resolve what it extends.  Raises `Invalid` with every fault and its place."""
    return profile_of(read_plain(text, "The profile"))


def profile_of(data: Any, *, called: str = "The profile") -> Profile:
    """The same from plain data, which is ``called`` so in errors."""
    try:
        profile = Profile.model_validate(data)
    except ValidationError as error:
        raise Invalid(
            f"{called} is not valid: {faults_of(error, data)}.", advice="See docs/profiles.md for the schema."
        ) from error
    return _extended(profile, 0)


def _extended(profile: Profile, depth: int) -> Profile:
    if profile.extends is None:
        inherited: list[Any] = []
    elif depth >= _MOST_EXTENDS:
        raise Invalid("Profiles extend each other in a ring.")
    else:
        inherited = list(builtin_profile(profile.extends).steps)
    known = {step.id for step in inherited}
    for name in profile.without:
        if name not in known:
            raise Invalid(f"The profile leaves out step {name!r}, which {profile.extends} does not have.")
    own = {step.id: step for step in profile.steps}
    if len(own) != len(profile.steps):
        raise Invalid("Two steps of the profile have the same id.")
    kept = [own.pop(step.id, step) for step in inherited if step.id not in profile.without]
    steps = [*kept, *own.values()]
    return profile.model_copy(update={"steps": steps, "extends": None, "without": []})
