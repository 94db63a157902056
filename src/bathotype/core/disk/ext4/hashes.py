"""The hashes by which ext3 and ext4 keep the names of large folders in order.

Follows ``fs/ext4/hash.c`` of the Linux kernel: the half of MD4, TEA, and the first one ("legacy"), each with names taken as
signed or as unsigned characters.
"""

from __future__ import annotations

import struct
from collections.abc import Callable

LEGACY, HALF_MD4, TEA = 0, 1, 2
#: Added to a kind whose names are taken as unsigned characters.
UNSIGNED = 3
_MASK = 0xFFFFFFFF
_START = (0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476)
#: Kept for the end of a folder.
_END = 0x7FFFFFFF << 1


def name_hash(name: bytes, kind: int, seed: bytes) -> int | None:
    """The hash of a name; its lowest bit is never set.  None for a kind that is not known here.

    ``seed`` are the 16 bytes that the superblock holds for it.
    """
    unsigned, base = kind >= UNSIGNED, kind - UNSIGNED if kind >= UNSIGNED else kind
    if not 0 <= base <= TEA:
        return None
    words = struct.unpack("<4I", seed)
    state = list(words if any(words) else _START)
    if base == LEGACY:
        major = _legacy(name, unsigned=unsigned)
    elif base == HALF_MD4:
        major = _rounds(name, state, 8, _half_md4, unsigned=unsigned)[1]
    else:
        major = _rounds(name, state, 4, _tea, unsigned=unsigned)[0]
    major &= ~1 & _MASK
    return _END - 2 if major == _END else major


def _characters(name: bytes, *, unsigned: bool) -> list[int]:
    return list(name) if unsigned else [c - 256 if c > 127 else c for c in name]


def _legacy(name: bytes, *, unsigned: bool) -> int:
    before, hash0 = 0x37ABE8F9, 0x12A3FE2D
    for c in _characters(name, unsigned=unsigned):
        now = (before + (hash0 ^ (c * 7152373 & _MASK))) & _MASK
        if now & 0x80000000:
            now -= 0x7FFFFFFF
        before, hash0 = hash0, now & _MASK
    return hash0 << 1 & _MASK


def _rounds(
    name: bytes, state: list[int], words: int, mix: Callable[[list[int], list[int]], None], *, unsigned: bool
) -> list[int]:
    """Mix a name into the state, so many words at a time."""
    rest = name
    while True:
        mix(state, _words(rest, words, unsigned=unsigned))
        rest = rest[words * 4 :]
        if not rest:
            return state


def _words(name: bytes, count: int, *, unsigned: bool) -> list[int]:
    """The next characters in words, filled up with their number."""
    pad = len(name) | len(name) << 8
    pad |= pad << 16
    out, value = [], pad & _MASK
    for position, c in enumerate(_characters(name[: count * 4], unsigned=unsigned)):
        value = (c + (value << 8)) & _MASK
        if position % 4 == 3:
            out.append(value)
            value = pad & _MASK
    if len(out) < count:
        out.append(value)
    return out + [pad & _MASK] * (count - len(out))


def _rotated(value: int, by: int) -> int:
    value &= _MASK
    return (value << by | value >> (32 - by)) & _MASK


def _half_md4(state: list[int], words: list[int]) -> None:
    a, b, c, d = state

    def turn(mix: Callable[[int, int, int], int], order: tuple[int, ...], by: tuple[int, ...], more: int) -> None:
        nonlocal a, b, c, d
        for step, word in enumerate(order):
            a = _rotated(a + mix(b, c, d) + words[word] + more, by[step % 4])
            a, b, c, d = d, a, b, c

    turn(lambda x, y, z: z ^ (x & (y ^ z)), (0, 1, 2, 3, 4, 5, 6, 7), (3, 7, 11, 19), 0)
    turn(lambda x, y, z: (x & y) + ((x ^ y) & z), (1, 3, 5, 7, 0, 2, 4, 6), (3, 5, 9, 13), 0x5A827999)
    turn(lambda x, y, z: x ^ y ^ z, (3, 7, 2, 6, 1, 5, 0, 4), (3, 9, 11, 15), 0x6ED9EBA1)
    state[:] = [(old + new) & _MASK for old, new in zip(state, (a, b, c, d), strict=True)]


def _tea(state: list[int], words: list[int]) -> None:
    total, b0, b1 = 0, state[0], state[1]
    a, b, c, d = words
    for _ in range(16):
        total = (total + 0x9E3779B9) & _MASK
        b0 = (b0 + (((b1 << 4) + a) ^ (b1 + total) ^ ((b1 >> 5) + b))) & _MASK
        b1 = (b1 + (((b0 << 4) + c) ^ (b0 + total) ^ ((b0 >> 5) + d))) & _MASK
    state[0], state[1] = (state[0] + b0) & _MASK, (state[1] + b1) & _MASK
