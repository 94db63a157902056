"""XXH64 with the seed 0, as the published description of xxHash has it; one of btrfs's kinds of checksum."""

from __future__ import annotations

import struct

_P1, _P2, _P3 = 0x9E3779B185EBCA87, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9
_P4, _P5 = 0x85EBCA77C2B2AE63, 0x27D4EB2F165667C5
_ALL = (1 << 64) - 1


def _turned(value: int, by: int) -> int:
    value &= _ALL
    return (value << by | value >> (64 - by)) & _ALL


def _mixed(value: int, word: int) -> int:
    return _turned(value + word * _P2, 31) * _P1 & _ALL


def xxh64(data: bytes) -> int:
    """The checksum of some bytes."""
    whole = len(data) // 32 * 32
    if whole:
        a, b, c, d = (_P1 + _P2) & _ALL, _P2, 0, -_P1 & _ALL
        for one, two, three, four in struct.iter_unpack("<4Q", data[:whole]):
            a, b, c, d = _mixed(a, one), _mixed(b, two), _mixed(c, three), _mixed(d, four)
        found = _turned(a, 1) + _turned(b, 7) + _turned(c, 12) + _turned(d, 18)
        for lane in (a, b, c, d):
            found = ((found ^ _mixed(0, lane)) * _P1 + _P4) & _ALL
    else:
        found = _P5
    found = (found + len(data)) & _ALL
    at = whole
    while at + 8 <= len(data):
        found = _turned(found ^ _mixed(0, struct.unpack_from("<Q", data, at)[0]), 27) * _P1 + _P4
        at += 8
    if at + 4 <= len(data):
        found = _turned(found ^ struct.unpack_from("<I", data, at)[0] * _P1, 23) * _P2 + _P3
        at += 4
    for byte in data[at:]:
        found = _turned(found ^ byte * _P5, 11) * _P1
    found &= _ALL
    found = (found ^ found >> 33) * _P2 & _ALL
    found = (found ^ found >> 29) * _P3 & _ALL
    return found ^ found >> 32
