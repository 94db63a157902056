"""Path patterns of profiles and rules: held against a matcher that tries every possibility."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from bathotype.core.expressions import for_text, searched
from bathotype.core.guest.patterns import Names, compile_pattern, matcher

#: Characters that mean something to regular expressions, to patterns, or to nobody.
CHARS = "ab./*?{},+$(\\"
PATTERNS = st.text(CHARS, max_size=10)
PATHS = st.text("ab./+$(\\{},", max_size=8)


def spread(pattern: str) -> list[str]:
    """A pattern without its alternatives: every pattern that it stands for; braces may nest, and may stay open."""
    opened = pattern.find("{")
    if opened < 0:
        return [pattern]
    depth, pieces, last = 0, [], opened + 1
    for at in range(opened, len(pattern)):
        char = pattern[at]
        depth += (char == "{") - (char == "}")
        if (char == "," and depth == 1) or not depth:
            pieces.append(pattern[last:at])
            last = at + 1
        if not depth:
            break
    else:
        pieces.append(pattern[last:])
        last = len(pattern)
    # A star beside a brace stays what it was: marks keep two single ones from becoming a double one.
    return [one for piece in pieces for one in spread(f"{pattern[:opened]}\0{piece}\0{pattern[last:]}")]


def fits(pattern: str, path: str) -> bool:
    if not pattern:
        return not path
    if pattern[0] == "\0":
        return fits(pattern[1:], path)
    if pattern.startswith("**"):
        return any(fits(pattern[2:], path[n:]) for n in range(len(path) + 1))
    if pattern[0] == "*":
        reach = path.find("/") if "/" in path else len(path)
        return any(fits(pattern[1:], path[n:]) for n in range(reach + 1))
    if not path:
        return False
    return (path[0] != "/" if pattern[0] == "?" else path[0] == pattern[0]) and fits(pattern[1:], path[1:])


@settings(max_examples=600)
@given(PATTERNS, PATHS)
def test_a_pattern_matches_what_it_stands_for(pattern: str, path: str) -> None:
    assert bool(compile_pattern(pattern).fullmatch(path)) == any(fits(one, path) for one in spread(pattern))


@given(PATHS.filter(lambda p: "{" not in p))
def test_a_path_without_signs_matches_itself_alone(path: str) -> None:
    assert compile_pattern(path).fullmatch(path) and not compile_pattern(path).fullmatch(f"{path}a")


@given(st.lists(PATTERNS, max_size=4), PATHS)
def test_several_match_where_one_of_them_does(patterns: list[str], path: str) -> None:
    alone = any(compile_pattern(p).fullmatch(path) for p in patterns)
    assert bool(matcher(patterns).fullmatch(path)) == alone


def test_the_patterns_of_profiles() -> None:
    assert compile_pattern("/{root,home/*}/.ssh/id_*").fullmatch("/home/mara/.ssh/id_ed25519")
    assert not compile_pattern("/{root,home/*}/.ssh/id_*").fullmatch("/home/mara/deep/.ssh/id_ed25519")
    assert compile_pattern("/var/log/**").fullmatch("/var/log/a/b\nc") and not compile_pattern("/var/log/*").fullmatch(
        "/var/log/a/b"
    )


@given(
    st.lists(PATTERNS.map("/{}".format), max_size=4),
    st.lists(st.text(CHARS + "ö\n", max_size=8).map("/{}".format), max_size=12),
)
def test_many_paths_at_once_are_matched_as_each_alone(patterns: list[str], paths: list[str]) -> None:
    wanted = matcher(patterns)
    assert Names(paths).matching(wanted) == [i for i, path in enumerate(paths) if wanted.fullmatch(path)]


def test_one_mark_is_one_character_of_any_kind() -> None:
    assert all(compile_pattern("/?").fullmatch(f"/{char}") for char in ("a", "ö", "\U0001f30a", "\udcff", "\n"))
    assert not any(compile_pattern("/?").fullmatch(path) for path in ("/", "//", "/ab", "/öö"))


def test_no_pattern_is_slow() -> None:
    assert not compile_pattern("/" + "**a" * 60 + "b").fullmatch("/" + "a" * 4000)
    assert not searched(for_text("(a+)+b" + "(a|aa)+c"), "a" * 4000)
