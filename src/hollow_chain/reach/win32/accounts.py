"""Accounts of this machine and its domain (lmaccess.h, ntsecapi.h)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime
from typing import Any

import win32net
import win32security as api

from hollow_chain.reach.control import Declined, KnownAccount
from hollow_chain.reach.win32.declining import declining
from hollow_chain.reach.win32.security import WELL_KNOWN

_NO_SUCH = (1332, 2221)
"""``ERROR_NONE_MAPPED``, ``NERR_UserNotFound``."""
_DISABLED, _LOCKED_OUT = 0x2, 0x10
"""``UF_ACCOUNTDISABLE``, ``UF_LOCKOUT``."""
_NEVER = 0xFFFFFFFF
"""``TIMEQ_FOREVER``."""
_LOG_ON, _DENIED = "SeServiceLogonRight", "SeDenyServiceLogonRight"
"""The right to log on as a service, and the bar on it (the documentation of account rights)."""
_USERS = (1, 9)
"""``SidTypeUser``, ``SidTypeComputer``."""


class LocalAccounts:
    """Accounts that this machine knows."""

    def look_up(self, name: str) -> KnownAccount | None:
        """What is known of an account."""
        try:
            with declining():
                account, _, kind = api.LookupAccountName(None, name.removeprefix(".\\"))
                number = api.ConvertSidToStringSid(account)
        except Declined as declined:
            if declined.number in _NO_SUCH:
                return None
            raise
        built_in = number in WELL_KNOWN or number.startswith("S-1-5-80-")  # of a service of that name alone
        found = KnownAccount(name, "user" if kind in _USERS or built_in else "group", built_in)
        if built_in or kind not in _USERS:
            return found
        return found._replace(may_run_services=_may_run(account, number, name), **_state(name))


def _state(name: str) -> dict[str, Any]:
    domain, _, bare = name.rpartition("\\")
    try:
        with declining():
            server = None if domain in ("", ".") else _server_of(domain)
            told = win32net.NetUserGetInfo(server, bare, 3)
    except Declined:
        return {}
    ends = int(told.get("acct_expires", _NEVER)) & _NEVER
    flags = int(told.get("flags", 0))
    return {
        "disabled": bool(flags & _DISABLED),
        "locked": bool(flags & _LOCKED_OUT),
        "expires_at": datetime.fromtimestamp(ends, UTC) if 0 < ends < _NEVER else None,
    }


def _server_of(domain: str) -> str | None:
    import win32api

    return (
        None
        if domain.casefold() == win32api.GetComputerName().casefold()
        else str(win32net.NetGetAnyDCName(None, domain))
    )


def _may_run(account: Any, number: str, name: str) -> bool | None:
    """Whether it has the right to log on as a service, itself or by a group; None where that is not told."""
    try:
        with declining():
            policy = api.LsaOpenPolicy(None, api.POLICY_LOOKUP_NAMES | api.POLICY_VIEW_LOCAL_INFORMATION)
            allowed = _holders(policy, _LOG_ON)
            denied = _holders(policy, _DENIED)
            own = {number, "S-1-1-0", "S-1-5-11", *_groups(name)}
    except Declined:
        return None
    if denied & own:
        return False
    return bool(allowed & own) if allowed else None


def _holders(policy: Any, right: str) -> set[str]:
    try:
        with declining():
            return {api.ConvertSidToStringSid(one) for one in api.LsaEnumerateAccountsWithUserRight(policy, right)}
    except Declined as declined:
        if declined.number in (2, 259):  # nobody has it
            return set()
        raise


def _groups(name: str) -> Iterable[str]:
    with declining():
        names = win32net.NetUserGetLocalGroups(None, name.removeprefix(".\\"), 1)
        return [api.ConvertSidToStringSid(api.LookupAccountName(None, one)[0]) for one in names]
