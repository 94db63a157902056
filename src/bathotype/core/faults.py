"""What is wrong with a value that pydantic refused, in plain words: its own are a programmer's."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError
from pydantic_core import ErrorDetails

from bathotype.core.forms import words_of
from bathotype.core.units import plural

_MOST = 5  # faults named at once

_WHOLE, _NUMBER, _TEXT = "must be a whole number", "must be a number", "must be a text"
_LIST, _SETTINGS, _SWITCH = "must be a list", "must be a group of names and values", "must be true or false"
_DAY, _TIME = "must be a day, such as 2026-12-01", "must be a time, such as 2026-12-01T12:00:00Z"

#: Errors about a name that is not in what was given, or must not be.
_NOT_THERE = ("missing", "missing_argument", "extra_forbidden", "unexpected_keyword_argument")
#: How pydantic says in a place that it is the name, not the value, that is wrong.
_KEY = "[key]"
_UNKNOWN = object()

#: By the type of the error; what is in braces is from its context.
_WORDS = {
    "missing": "is missing",
    "missing_argument": "is missing",
    "extra_forbidden": "is not known here",
    "unexpected_keyword_argument": "is not known here",
    "string_type": _TEXT,
    "string_unicode": "must be a text in Unicode",
    "bytes_type": _TEXT,
    "int_type": _WHOLE,
    "int_parsing": _WHOLE,
    "int_from_float": _WHOLE,
    "int_parsing_size": "is too large a number",
    "float_type": _NUMBER,
    "float_parsing": _NUMBER,
    "finite_number": _NUMBER,
    "bool_type": _SWITCH,
    "bool_parsing": _SWITCH,
    "list_type": _LIST,
    "tuple_type": _LIST,
    "set_type": _LIST,
    "frozen_set_type": _LIST,
    "iterable_type": _LIST,
    "dict_type": _SETTINGS,
    "mapping_type": _SETTINGS,
    "model_type": _SETTINGS,
    "model_attributes_type": _SETTINGS,
    "dataclass_type": _SETTINGS,
    "greater_than_equal": "must be {ge} or more",
    "less_than_equal": "must be {le} or less",
    "greater_than": "must be more than {gt}",
    "less_than": "must be less than {lt}",
    "multiple_of": "must be a multiple of {multiple_of}",
    "literal_error": "must be {expected}",
    "enum": "must be {expected}",
    "none_required": "must be left out",
    "date_type": _DAY,
    "date_parsing": _DAY,
    "date_from_datetime_parsing": _DAY,
    "date_from_datetime_inexact": _DAY,
    "datetime_type": _TIME,
    "datetime_parsing": _TIME,
    "datetime_from_date_parsing": _TIME,
    "datetime_object_invalid": _TIME,
    "timezone_aware": "needs a time zone, such as the Z of 2026-12-01T12:00:00Z",
    "json_invalid": "is not JSON",
    "json_type": "is not JSON",
    "union_tag_not_found": "needs {discriminator}, which says what it is",
    "union_tag_invalid": "must be {expected_tags}, not {tag!r}",
    "recursion_loop": "holds itself",
    "uuid_parsing": "must be a UUID",
    "uuid_type": "must be a UUID",
    "url_parsing": "must be an address, such as https://tide.example/",
    "url_type": "must be an address, such as https://tide.example/",
    "url_scheme": "must be an address that begins with {expected_schemes}",
}


def _longest(context: Mapping[str, Any]) -> str:
    return f"has more than {plural(context['max_length'], 'character')}"


def _shortest(context: Mapping[str, Any]) -> str:
    return "is empty" if context["min_length"] == 1 else f"has less than {plural(context['min_length'], 'character')}"


def _many(context: Mapping[str, Any]) -> str:
    return f"has more than {plural(context['max_length'], 'part')}"


def _few(context: Mapping[str, Any]) -> str:
    return "is empty" if context["min_length"] == 1 else f"has less than {plural(context['min_length'], 'part')}"


def _of_form(context: Mapping[str, Any]) -> str:
    words = words_of(context["pattern"])
    return f"must be {words}" if words else f"must have the form {context['pattern']}"


_FROM_CONTEXT: dict[str, Callable[[Mapping[str, Any]], str]] = {
    "string_too_long": _longest,
    "string_too_short": _shortest,
    "url_too_long": _longest,
    "too_long": _many,
    "too_short": _few,
    "string_pattern_mismatch": _of_form,
}


def is_ours(error: ErrorDetails) -> bool:
    """Whether the words are a validator's of this project, which are a sentence or a part of one by themselves."""
    return error["type"] in ("value_error", "assertion_error")


def _short(value: Any) -> Any:
    """A bound as people write it: 730, not 730.0."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


def in_words(error: ErrorDetails) -> str:
    """What is wrong with one value, as what follows its name: ``must be 5 or more``.  The value is not in it: it may be
    a secret."""
    context = {name: _short(value) for name, value in (error.get("ctx") or {}).items()}
    kind = error["type"]
    try:
        if kind in _FROM_CONTEXT:
            return _FROM_CONTEXT[kind](context)
        if kind in _WORDS:
            return _WORDS[kind].format_map(context)
    except (KeyError, ValueError):
        pass  # of another release of pydantic: its own words are better than none
    message = error["msg"].removeprefix("Value error, ").removeprefix("Assertion failed, ").rstrip(".")
    return message if is_ours(error) else message[:1].lower() + message[1:]


def place_of(location: Iterable[str | int]) -> str:
    """Where a value is: ``users.0.name``."""
    return ".".join(map(str, location))


@dataclass(frozen=True)
class Fault:
    """What is wrong at one place of what was given."""

    place: tuple[str | int, ...]
    #: One; or, of a value that may have one of several forms and has none, what it lacks for each.
    errors: tuple[ErrorDetails, ...]

    @property
    def words(self) -> str:
        """As `in_words` says it: ``must be true or false, a number or a text``."""
        words = list(dict.fromkeys(map(in_words, self.errors)))
        if _NUMBER in words and _WHOLE in words:
            words.remove(_WHOLE)
        *first, last = [words[0], *(one.removeprefix("must be ") for one in words[1:])]
        if not first:
            return last
        split = "," if "," in first[-1] or first[-1].endswith(_SWITCH) else ""
        return f"{', '.join(first)}{split} or {last}"

    def __str__(self) -> str:
        place = place_of(self.place)
        return f"{place}: {self.words}" if place else self.words


def faults_in(errors: Iterable[ErrorDetails], given: object) -> list[Fault]:
    """The faults of a value, at their places in it.

    pydantic's places hold more than names and numbers: where a value may have one of several forms, there is one error for
    each of them, and its place has that form's name in pydantic's own language.
    """
    found = [_placed(error, given) for error in errors]
    faults: list[Fault] = []
    forms: dict[tuple[str | int, ...], list[ErrorDetails]] = {}
    for error, place, forks in found:
        alike = [one for one in found if place in one[2]]
        if place not in forks or len(alike) == 1:
            faults.append(Fault(place, (error,)))
        elif any(len(deeper) > len(place) for _, deeper, _ in alike):
            continue  # the value has another of the forms, with faults inside
        elif place in forms:
            continue
        else:
            forms[place] = [one for one, _, _ in alike]
            # What is wrong inside the one form that it has says more than that it has none of the others.
            better = [one for one in forms[place] if one["type"] in _FROM_CONTEXT or is_ours(one)]
            faults.append(Fault(place, tuple(better or forms[place])))
    return faults


Placed = tuple[ErrorDetails, tuple[str | int, ...], Sequence[tuple[str | int, ...]]]


def _placed(error: ErrorDetails, given: object) -> Placed:
    """An error with its place in what was given, and the places at which pydantic names a form that a value may have."""
    place: list[str | int] = []
    forks: list[tuple[str | int, ...]] = []
    location, value = error["loc"], given
    if given is _UNKNOWN:
        return error, location, ()
    names_nothing = error["type"] in _NOT_THERE
    for number, part in enumerate(location, 1):
        if isinstance(value, Mapping) and part in value:
            value = value[part]
        elif isinstance(part, int):
            value = value[part] if isinstance(value, list | tuple) and part < len(value) else None
        elif not (names_nothing and number == len(location)):
            if part != _KEY:
                forks.append(tuple(place))
            continue
        place.append(part)
    return error, tuple(place), forks


def faults_of(error: ValidationError, given: object = _UNKNOWN) -> str:
    """The first few faults, each with its place: ``users.0.name: is missing; colour: is not known here``.  ``given`` is
    what was refused."""
    return "; ".join(map(str, faults_in(error.errors(), given)[:_MOST]))
