"""Comparing what license files and machines say: host IDs, versions. Light, since every diagnosis imports it."""

from __future__ import annotations

import re


def plain_id(host_id: str) -> str:
    """A host ID in one form: lower-case hexadecimal digits without marks between them."""
    return re.sub(r"[^0-9a-f]", "", host_id.lower())


def difference(one: str, other: str) -> str:
    """How two host IDs of one length nearly agree: two neighboring digits swapped, or one or two wrong; else empty."""
    if len(one) != len(other):
        return ""
    wrong = [at for at in range(len(one)) if one[at] != other[at]]
    if len(wrong) == 2 and one[wrong[0]] == other[wrong[1]] and one[wrong[1]] == other[wrong[0]]:
        return "two digits swapped"
    return {1: "one digit wrong", 2: "two digits wrong"}.get(len(wrong), "")


def version_key(text: str) -> tuple[int | str, ...]:
    """A version for comparison: numbers as numbers, so that 7.10 is newer than 7.9."""
    return tuple(int(part) if part.isdigit() else part for part in re.findall(r"[0-9]{1,9}|[a-z]+", text.lower()))


def covers(owned: str, wanted: str) -> bool:
    """Whether an entitlement up to version *owned* covers *wanted*; an empty one on either side covers all."""
    if not owned or not wanted:
        return True
    for mine, theirs in zip(version_key(owned), version_key(wanted), strict=False):
        if mine != theirs:
            return isinstance(mine, int) and isinstance(theirs, int) and theirs < mine
    return True  # 7.2 covers 7.2.5
