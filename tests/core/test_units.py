"""Sizes, durations and counts for people; and checksums, by the vectors of those who defined them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from bathotype.core.disk.btrfs.xxhash import xxh64
from bathotype.core.disk.crc import raw_crc32c
from bathotype.core.units import bytes_of, iec, plural, seconds


@pytest.mark.parametrize(
    ("count", "text"),
    [
        (0, "0 B"), (1023, "1023 B"), (1024, "1.0 KiB"), (1536, "1.5 KiB"), ((1 << 20) - 1, "1.0 MiB"), (1 << 20, "1.0 MiB"),
        (1023 << 10, "1023.0 KiB"), (3 << 30, "3.0 GiB"), (5 << 40, "5.0 TiB"), (5000 << 40, "5000.0 TiB"),
    ],
)  # fmt: skip
def test_bytes_in_words(count: int, text: str) -> None:
    assert iec(count) == text


@given(st.integers(0, 1 << 50))
def test_what_is_shown_can_be_given(count: int) -> None:
    shown = iec(count)
    assert (abs(bytes_of(shown) - count) <= max(0.06 * count, 1) and float(shown.split()[0]) < 1024) or "TiB" in shown


@pytest.mark.parametrize(
    ("text", "count"),
    [("512", 512), ("512B", 512), (" 2 TiB ", 2 << 40), ("1.5gib", 3 << 29), ("64MIB", 64 << 20), ("0", 0)],
)
def test_sizes_as_people_write_them(text: str, count: int) -> None:
    assert bytes_of(text) == count


@pytest.mark.parametrize("text", ["", "large", "-1", "1 GB", "1e9", "1,5 GiB", "GiB", "1 GiB 2", "1..5GiB", "9" * 19])
def test_what_is_no_size(text: str) -> None:
    with pytest.raises(ValueError, match="write a size such as"):
        bytes_of(text)


@pytest.mark.parametrize(
    ("value", "text"),
    [
        (0, "0.0s"), (0.04, "0.0s"), (9.94, "9.9s"), (9.96, "10s"), (59.4, "59s"), (59.6, "1m 00s"), (75, "1m 15s"),
        (3599.6, "1h 00m"), (3725, "1h 02m"), (90_000, "25h 00m"),
    ],
)  # fmt: skip
def test_durations_in_words(value: float, text: str) -> None:
    assert seconds(value) == text


@pytest.mark.parametrize(
    ("count", "noun", "text"),
    [
        (1, "version", "1 version"), (0, "version", "0 versions"), (2, "copy", "2 copies"), (2, "day", "2 days"),
        (3, "free address", "3 free addresses"), (1, "copy", "1 copy"),
    ],
)  # fmt: skip
def test_counts_in_words(count: int, noun: str, text: str) -> None:
    assert plural(count, noun) == text


@pytest.mark.parametrize(
    ("data", "checksum"),
    [
        (b"", 0xEF46DB3751D8E999),
        (b"a", 0xD24EC4F1A98C6E5B),
        (b"abc", 0x44BC2CF5AD770999),
        (b"Nobody inspects the spammish repetition", 0xFBCEA83C8A378BF1),
    ],
)
def test_xxh64_is_that_of_its_description(data: bytes, checksum: int) -> None:
    assert xxh64(data) == checksum


@given(st.binary(max_size=100), st.integers(0, 99))
def test_crc32c_goes_on_where_it_stopped(data: bytes, cut: int) -> None:
    whole = raw_crc32c(0xFFFFFFFF, data)
    assert raw_crc32c(raw_crc32c(0xFFFFFFFF, data[:cut]), data[cut:]) == whole


def test_crc32c_is_that_of_rfc_3720() -> None:
    for data, checksum in ((b"123456789", 0xE3069283), (bytes(32), 0x8A9136AA), (b"\xff" * 32, 0x62A8AB43)):
        assert raw_crc32c(0xFFFFFFFF, data) ^ 0xFFFFFFFF == checksum
