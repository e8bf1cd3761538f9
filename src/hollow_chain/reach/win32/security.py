"""Whose files are, who may do what with them, and which rights an account has (aclapi.h, ntsecapi.h)."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import win32security as api

from hollow_chain.reach.control import FileRights
from hollow_chain.reach.win32.declining import declining
from hollow_chain.trouble import Trouble

WELL_KNOWN = {
    "S-1-5-18": "LocalSystem",
    "S-1-5-19": "LocalService",
    "S-1-5-20": "NetworkService",
    "S-1-1-0": "Everyone",
    "S-1-5-11": "Authenticated Users",
    "S-1-5-6": "Service",
    "S-1-5-32-544": "Administrators",
    "S-1-5-32-545": "Users",
    "S-1-3-0": "Creator Owner",
}
"""Accounts that every system has, whatever it calls them in its language (the documentation of well-known SIDs)."""
_READ, _WRITE, _EXECUTE = 0x1 | 0x80000000 | 0x10000000, 0x2 | 0x40000000 | 0x10000000, 0x20 | 0x20000000 | 0x10000000
"""Bits of an access mask that let data be read, written, and a program be run or a folder be passed (winnt.h, ``FILE_READ_DATA``,
``FILE_WRITE_DATA``, ``FILE_EXECUTE``; the generic ones, of which ``GENERIC_ALL`` stands for each)."""
_INHERITED_ONLY = 0x8
"""``INHERIT_ONLY_ACE``: means what lies below, and not the thing itself."""
_KINDS = {0: "user", 1: "deny"}
"""``ACCESS_ALLOWED_ACE_TYPE`` and ``ACCESS_DENIED_ACE_TYPE``."""
_MOST_ENTRIES = 100
_EVERYTHING = 0x1F01FF
"""``FILE_ALL_ACCESS``."""


def rights_of(path: str) -> FileRights:
    """Whose a file or folder is, and its list."""
    with declining():
        about = api.GetNamedSecurityInfo(
            path, api.SE_FILE_OBJECT, api.OWNER_SECURITY_INFORMATION | api.DACL_SECURITY_INFORMATION
        )
        owner, listed = about.GetSecurityDescriptorOwner(), about.GetSecurityDescriptorDacl()
        if listed is None:  # no list at all lets everybody in
            return FileRights(_name(owner), ["user:Everyone:rwx"])
        entries = (listed.GetAce(at) for at in range(min(listed.GetAceCount(), _MOST_ENTRIES)))
        return FileRights(_name(owner), [text for entry in entries if (text := _entry(entry))])


def _entry(entry: Any) -> str:
    (kind, flags), mask, account = entry[0], entry[1], entry[-1]
    if kind not in _KINDS or flags & _INHERITED_ONLY:
        return ""
    mask &= 0xFFFFFFFF
    bits = "".join(letter if mask & bit else "-" for letter, bit in (("r", _READ), ("w", _WRITE), ("x", _EXECUTE)))
    return f"{_KINDS[kind]}:{_name(account).replace(':', '_')}:{bits}"


def _name(account: Any) -> str:
    return name_of(api.ConvertSidToStringSid(account)) if account is not None else ""


@lru_cache(maxsize=1000)
def name_of(number: str) -> str:
    """The name of an account by its security identifier in text; that itself where nobody knows a name."""
    if number in WELL_KNOWN:
        return WELL_KNOWN[number]
    import pywintypes

    try:
        name, domain, _ = api.LookupAccountSid(None, api.ConvertStringSidToSid(number))
    except pywintypes.error:
        return number
    return f"{domain}\\{name}" if domain else str(name)


_OWNERS = ("localsystem", "administrators", "nt service\\trustedinstaller")


def keep_private(place: Path) -> None:
    """Make a folder that only the system and administrators may look into or write in; the folders above it are made as usual.

    Raises :class:`Trouble` where one stands there that somebody else owns: what lies in it could be anybody's.
    """
    import win32api
    import win32con

    try:
        place.mkdir(parents=True, exist_ok=True)
        with declining():
            me = str(win32api.GetUserNameEx(win32con.NameSamCompatible))
            owner = rights_of(str(place)).owner
            if owner.casefold() not in (*_OWNERS, me.casefold()):
                raise Trouble(
                    f"{place} belongs to {owner}: look at what lies there, and remove it, before anything is mended"
                )
            listed = api.ACL()
            whole = api.CONTAINER_INHERIT_ACE | api.OBJECT_INHERIT_ACE
            for number in ("S-1-5-18", "S-1-5-32-544"):
                listed.AddAccessAllowedAceEx(api.ACL_REVISION, whole, _EVERYTHING, api.ConvertStringSidToSid(number))
            protected = api.DACL_SECURITY_INFORMATION | api.PROTECTED_DACL_SECURITY_INFORMATION
            api.SetNamedSecurityInfo(str(place), api.SE_FILE_OBJECT, protected, None, None, listed, None)
    except OSError as error:
        raise Trouble(f"cannot make {place} private: {(error.strerror or str(error)).lower()}") from None
