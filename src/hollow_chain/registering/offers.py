"""What is likely meant where a wish leaves it open: by the program itself, its folder, and what such programs nearby use."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable

import msgspec

from hollow_chain.causes.rights import ALL_RIGHTS_ACCOUNTS
from hollow_chain.facts.habits import is_interpreter
from hollow_chain.facts.host import File, Host
from hollow_chain.families import family_of
from hollow_chain.families.entries import PLAIN
from hollow_chain.registering.systemd_form import Chosen
from hollow_chain.registering.wish import OWN, Wish

Look = Callable[[str], File | None]
_ENDINGS = re.compile(r"\.(py|sh|pl|rb|js|jar|php|exe|cmd|bat|bin|run)$", re.IGNORECASE)
_SHARED_FOLDERS = re.compile(r"^(/usr(/local)?)?/s?bin(/|$)|^/usr/lib(exec)?(/|$)|^/$")
"""Folders of programs that belong to nobody in particular (hier(7))."""


def name_of(wish: Wish) -> str:
    """A name made from that of the program, or of the script that it runs."""
    path = wish.program
    if is_interpreter(re.split(r"[\\/]", path)[-1]):
        path = next((word for word in wish.arguments if not word.startswith("-")), path)
    stem = _ENDINGS.sub("", re.split(r"[\\/]", path.rstrip("\\/"))[-1])
    return re.sub(r"[^A-Za-z0-9:_.-]+", "-", stem).strip("-.")


def folder_of(wish: Wish, host: Host) -> tuple[str, str]:
    """The working folder, and why."""
    if wish.folder or not family_of(host).defined_in_files:
        return wish.folder, ""
    above = wish.program.rpartition("/")[0]
    for word in [wish.program, *wish.arguments]:
        above = word.rpartition("/")[0] if word.startswith("/") else ""
        if above and not _SHARED_FOLDERS.match(above):
            return above, "its program lies there, and finds there what it names without a path"
    return "", ""


def account_of(wish: Wish, host: Host, look: Look) -> tuple[str, str]:
    """The account, and why: never one with all rights unless it is asked for."""
    if wish.account:
        return wish.account, ""
    if not family_of(host).defined_in_files:
        return PLAIN, "the account with the fewest rights of those that every system has"
    for path in dict.fromkeys((wish.folder, _script(wish).rpartition("/")[0])):
        file = look(path) if path else None
        if file is not None and file.exists and file.owner not in (*ALL_RIGHTS_ACCOUNTS, "nobody"):
            return file.owner, f"{path} belongs to it"
    near = _nearby(wish, host)
    if near:
        return near, "such programs nearby run under it"
    return OWN, "nothing here is anybody's: an account of its own, made at each start, has the fewest rights"


def _script(wish: Wish) -> str:
    return next(
        (
            w
            for w in [wish.program, *wish.arguments]
            if w.startswith("/") and not _SHARED_FOLDERS.match(w.rpartition("/")[0])
        ),
        "",
    )


def _nearby(wish: Wish, host: Host) -> str:
    """The account of services whose program lies in the same folder."""
    folder = _script(wish).rpartition("/")[0]
    users = Counter(
        service.account.user
        for service in host.services
        if folder and service.account is not None and service.program is not None and not service.account.dynamic
        and any(word.startswith(f"{folder}/") for word in service.program.arguments[:3])
        and service.account.user not in ALL_RIGHTS_ACCOUNTS
    )  # fmt: skip
    return users.most_common(1)[0][0] if users else ""


def low_port_of(wish: Wish, account: str, host: Host) -> int:
    """A port of the wish that the account may not take without a right to it; 0: none."""
    first = host.limits.unprivileged_port if host.limits is not None else None
    if not family_of(host).low_ports_need_right or account in ALL_RIGHTS_ACCOUNTS:
        return 0
    return next((port for port in wish.port if port < (1024 if first is None else first)), 0)


def chosen_for(wish: Wish, host: Host, look: Look) -> Chosen:
    """All that is chosen where *wish* leaves it open."""
    if wish.instance_of:
        return Chosen(wish.account, "", wish.folder, "", low_port_of(wish, wish.account, host) if wish.account else 0)
    account, account_why = account_of(wish, host, look)
    folder, folder_why = folder_of(wish, host)
    return Chosen(account, account_why, folder, folder_why, low_port_of(wish, account, host))


def completed(wish: Wish) -> Wish:
    """*wish* with a name, where it has none."""
    return wish if wish.name or not wish.program else msgspec.structs.replace(wish, name=name_of(wish))
