"""What people write as YAML is read, or refused with a place and in plain words."""

from __future__ import annotations

from typing import Any

import pytest
import yaml
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.errors import Invalid
from bathotype.core.plainyaml import read_plain

PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"])),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text("abc", min_size=1), inner, max_size=4),
)


@given(PLAIN)
def test_what_is_written_is_read_again(data: Any) -> None:
    text = yaml.safe_dump(data, allow_unicode=True)
    assert read_plain(text, "it") == data == read_plain(text.encode(), "it")


@given(st.binary(max_size=60) | st.text("[]{}:,-!&*?|>'#%@ab0129. \n\t", max_size=40))
def test_anything_is_read_or_refused(text: str | bytes) -> None:
    try:
        read_plain(text, "it")
    except Invalid as error:
        assert str(error).startswith("it ")


@pytest.mark.parametrize(
    ("text", "wrong"),
    [
        ("a: [1, 2\nb: 3\n", "line 2, column 2: expected ',' or ']', but got ':'"),
        ("a: b: c", "line 1, column 5: mapping values are not allowed here"),
        ("a: !!python/object:os.system x", "line 1, column 4: could not determine a constructor"),
        ("{[1]: 2}", "line 1, column 2: found unhashable key"),
        ("a: \0", "is not YAML: unacceptable character"),
        (b"a: \xff", "is no text in UTF-8. Save it in that encoding."),
        ("until: 2027-02-30", "holds a value that cannot be read: day is out of range for month"),
        ("[" * 5000, "is nested too deeply"),
    ],
)
def test_what_is_wrong_has_its_place(text: str | bytes, wrong: str) -> None:
    with pytest.raises(Invalid) as refused:
        read_plain(text, "quay.yaml")
    assert str(refused.value).startswith("quay.yaml ") and wrong in str(refused.value)
