"""A value that is refused is refused in plain words: the validator's own are a programmer's."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum
from typing import Annotated, Any, Literal

import pytest
from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, field_validator

from bathotype.core.errors import Invalid
from bathotype.core.faults import faults_in, faults_of, in_words
from bathotype.core.firstboot.settings import first_boot_of
from bathotype.core.forms import form
from bathotype.core.generalize.profile import profile_of
from bathotype.core.lifecycle.room import Room


class Wind(StrEnum):
    EAST = "east"
    WEST = "west"


class Boat(BaseModel):
    model_config = ConfigDict(extra="forbid")

    name: str = Field(min_length=1)
    kind: Literal["boat"] = "boat"


class Buoy(BaseModel):
    kind: Literal["buoy"]


class Harbour(BaseModel):
    boats: list[Boat]
    depth: int = 3

    @field_validator("depth")
    @classmethod
    def _deep(cls, value: int) -> int:
        if value == 13:
            raise ValueError("nobody moors at thirteen.")
        return value


AFLOAT = Annotated[Boat | Buoy, Field(discriminator="kind")]


@pytest.mark.parametrize(
    ("kind", "value", "words"),
    [
        (int, "deep", "must be a whole number"),
        (int, 1.5, "must be a whole number"),
        (int, None, "must be a whole number"),
        (float, "deep", "must be a number"),
        (Annotated[float, Field(allow_inf_nan=False)], float("nan"), "must be a number"),
        (bool, "perhaps", "must be true or false"),
        (str, 7, "must be a text"),
        (list[int], "1, 2", "must be a list"),
        (dict[str, int], [1], "must be a group of names and values"),
        (Boat, "gull", "must be a group of names and values"),
        (date, "tomorrow", "must be a day, such as 2026-12-01"),
        (datetime, "tomorrow", "must be a time, such as 2026-12-01T12:00:00Z"),
        (AwareDatetime, "2026-12-01T12:00:00", "needs a time zone, such as the Z of 2026-12-01T12:00:00Z"),
        (Literal["tide", "wind"], "sun", "must be 'tide' or 'wind'"),
        (Wind, "north", "must be 'east' or 'west'"),
        (Annotated[int, Field(ge=2)], 1, "must be 2 or more"),
        (Annotated[int, Field(le=2)], 3, "must be 2 or less"),
        (Annotated[int, Field(gt=2)], 2, "must be more than 2"),
        (Annotated[int, Field(lt=2)], 2, "must be less than 2"),
        (Annotated[float, Field(gt=0.0, le=730.0)], 1000, "must be 730 or less"),
        (Annotated[float, Field(ge=0.5)], 0, "must be 0.5 or more"),
        (Annotated[int, Field(multiple_of=512)], 513, "must be a multiple of 512"),
        (Annotated[str, Field(pattern="^[a-z]+$")], "A", "must have the form ^[a-z]+$"),
        (Annotated[str, Field(pattern=form("^[a-m]+$", "letters up to m"))], "z", "must be letters up to m"),
        (Annotated[str, Field(min_length=1)], "", "is empty"),
        (Annotated[str, Field(min_length=8)], "short", "has less than 8 characters"),
        (Annotated[str, Field(max_length=1)], "long", "has more than 1 character"),
        (Annotated[list[int], Field(max_length=2)], [1, 2, 3], "has more than 2 parts"),
        (Annotated[list[int], Field(min_length=1)], [], "is empty"),
        (Annotated[list[int], Field(min_length=2)], [1], "has less than 2 parts"),
        (AFLOAT, {}, "needs 'kind', which says what it is"),
        (AFLOAT, {"kind": "whale"}, "must be 'boat', 'buoy', not 'whale'"),
    ],
)
def test_each_fault_has_words(kind: Any, value: Any, words: str) -> None:
    with pytest.raises(ValidationError) as refused:
        TypeAdapter(kind).validate_python(value)
    [error] = refused.value.errors()
    assert in_words(error) == words


def test_every_fault_is_told_with_its_place_and_none_with_its_value() -> None:
    with pytest.raises(ValidationError) as refused:
        Harbour.model_validate(
            {"boats": [{"name": "gull"}, {"colour": "swordfish-secret"}], "depth": "swordfish-secret"}
        )
    assert faults_of(refused.value) == (
        "boats.1.name: is missing; boats.1.colour: is not known here; depth: must be a whole number"
    )


def test_a_validators_own_sentence_stays_as_it_is() -> None:
    with pytest.raises(ValidationError) as refused:
        Harbour.model_validate({"boats": [], "depth": 13})
    assert faults_of(refused.value) == "depth: nobody moors at thirteen"


def test_at_most_five_faults_are_told() -> None:
    with pytest.raises(ValidationError) as refused:
        TypeAdapter(list[int]).validate_python(["x"] * 9)
    assert faults_of(refused.value).count(";") == 4


PLACE = form("^[a-z-]+$", "the name of a pier")


class Mooring(BaseModel):
    model_config = ConfigDict(extra="forbid")

    until: date | Literal["never"] = "never"
    pier: bool | Annotated[str, Field(pattern=PLACE)] = True
    boat: Boat | str = ""
    values: dict[Annotated[str, Field(pattern=PLACE)], bool | int | float | str] = {}
    tides: dict[str, int | list[int | str]] = {}
    afloat: list[AFLOAT] = []


@pytest.mark.parametrize(
    ("given", "faults"),
    [
        ({"until": "2027-02-30"}, ["until: must be a day, such as 2026-12-01, or 'never'"]),
        ({"pier": []}, ["pier: must be true or false, or a text"]),
        ({"pier": "Nine"}, ["pier: must be the name of a pier"]),
        ({"boat": 7}, ["boat: must be a group of names and values or a text"]),
        ({"boat": {"name": 4}}, ["boat.name: must be a text"]),
        ({"boat": {"mast": 4}}, ["boat.name: is missing", "boat.mast: is not known here"]),
        ({"values": {"a": None, "b": []}}, [f"values.{x}: must be true or false, a number or a text" for x in "ab"]),
        ({"values": {"A": 1}}, ["values.A: must be the name of a pier"]),
        ({"tides": {"a": "x"}}, ["tides.a: must be a whole number or a list"]),
        ({"tides": {"a": [1, {}, []]}}, [f"tides.a.{n}: must be a whole number or a text" for n in (1, 2)]),
        ({"afloat": [{"kind": "boat"}, 3]}, ["afloat.0.name: is missing", "afloat.1: must be a group of names and values"]),
        ({"afloat": [{"kind": "buoy"}], "str": 1, "until": {}}, ["until: must be a day, such as 2026-12-01, or 'never'", "str: is not known here"]),
    ],
)  # fmt: skip
def test_a_value_of_several_forms_has_one_fault_at_its_own_place(given: dict[str, Any], faults: list[str]) -> None:
    with pytest.raises(ValidationError) as refused:
        Mooring.model_validate(given)
    assert list(map(str, faults_in(refused.value.errors(), given))) == faults


def test_a_fault_of_a_whole_has_no_place() -> None:
    with pytest.raises(ValidationError) as refused:
        Room.model_validate("large")
    assert faults_of(refused.value) == "must be a group of names and values"


def test_people_read_no_validators_words() -> None:
    for read, data in (
        (first_boot_of, {"colour": "red", "users": [{"name": "Root!"}], "secrets": "none", "locale": 7}),
        (profile_of, {"name": 7, "steps": {"a": 1}, "colour": "red"}),
    ):
        with pytest.raises(Invalid) as refused:
            read(data)
        for jargon in ("Input", "should", "Extra inputs", "Field required", "Value error", "dictionary", "pydantic"):
            assert jargon not in refused.value.message, refused.value.message
