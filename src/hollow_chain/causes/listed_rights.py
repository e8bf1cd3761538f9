"""What an account may do with a file by the file's list alone (the documentation of access control: "How AccessCheck works")."""

from __future__ import annotations

from hollow_chain.causes.case import Case
from hollow_chain.facts.host import File

ALL = 7
_BITS = {"r": 4, "w": 2, "x": 1}
"""The rights to read, to write and to execute, as bits of a mode have them."""
_EVERYBODY = frozenset({"everyone", "authenticated users", "service"})
_OF_BUILT_IN = {
    "localsystem": frozenset({"localsystem", "administrators"}),
    "localservice": frozenset({"localservice", "users"}),
    "networkservice": frozenset({"networkservice", "users"}),
}
"""What the accounts that every system has belong to, beside everybody (the documentation of service user accounts)."""


def rights(case: Case, user: str, file: File) -> int | None:
    """The bits that *user* has on *file*; None where that cannot be told: no list was read, or a group is in it of which nobody knows
    whether the account belongs to it."""
    if not file.acl:
        return None
    own = _names_of(case, user)
    allowed = denied = unknown = 0
    for kind, name, letters in (entry.split(":") for entry in file.acl if entry.count(":") == 2):
        bits = sum(bit for letter, bit in _BITS.items() if letter in letters)
        mine = name.casefold() in own
        if kind == "deny" and mine:
            denied |= bits & ~allowed  # what was allowed by an entry before it stays
        elif kind == "user" and mine:
            allowed |= bits & ~denied
        elif kind == "user" and not _is_another(case, name):
            unknown |= bits
    return None if unknown & ~allowed else allowed


def _names_of(case: Case, user: str) -> frozenset[str]:
    """The names under which a list may mean the account."""
    lowered = user.casefold()
    built_in = _OF_BUILT_IN.get(lowered)
    if built_in is not None:
        return _EVERYBODY | built_in | {f"nt service\\{case.node.name.casefold()}"}
    domain, _, bare = lowered.rpartition("\\")
    here = case.host.name.casefold()
    names = {lowered, f"nt service\\{case.node.name.casefold()}"}
    if domain in ("", ".", here):
        names |= {bare, f"{here}\\{bare}", f".\\{bare}", "users"}
    return _EVERYBODY | names


def _is_another(case: Case, name: str) -> bool:
    """Whether a list means somebody of whom it is known that the account is not he: one that every system has, or another user."""
    lowered = name.casefold()
    if (
        lowered in _OF_BUILT_IN
        or lowered in ("administrators", "creator owner", "users")
        or lowered.startswith("nt service\\")
    ):
        return True
    known = case.account(name)
    return known is not None and known.exists
