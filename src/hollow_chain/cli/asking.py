"""Asking a person at a terminal for what a registration leaves open, with the likely answer offered."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from hollow_chain.cli import common, finding
from hollow_chain.trouble import wrong_call

if TYPE_CHECKING:
    from hollow_chain.registering.wish import Wish


def ask_for_rest(wish: Wish) -> Wish:
    """*wish* with answers to what it leaves open; an empty answer takes what is offered."""
    import msgspec

    from hollow_chain.chain import Graph
    from hollow_chain.reach.here import here
    from hollow_chain.registering import offers
    from hollow_chain.sources.looks import Looker

    owner = finding.one_host(Graph(common.load(None)), "")
    looker = Looker(here())
    try:
        wish = msgspec.structs.replace(wish, name=wish.name or _ask("Name", offers.name_of(wish)))
        if not wish.account and not wish.instance_of:
            account, why = offers.account_of(wish, owner, looker.look)
            wish = msgspec.structs.replace(wish, account=_ask("Account", account, why))
        if not wish.folder and not wish.instance_of:
            folder, why = offers.folder_of(wish, owner)
            wish = msgspec.structs.replace(wish, folder=_ask("Working folder", folder, why, "none"))
    finally:
        looker.close()
    if not wish.start:
        wish = msgspec.structs.replace(wish, start=[_ask("Start", "automatic", "with the boot")])
    if not wish.port:
        answer = _ask("Port that it listens on", "", "", "none")
        if answer and not (answer.isdigit() and 0 < int(answer) < 65536):
            raise wrong_call(f"port: {answer!r} is no port; write a number from 1 to 65535")
        wish = msgspec.structs.replace(wish, port=[int(answer)] if answer else [])
    return wish


def says_yes(question: str) -> bool:
    """Whether the person at the terminal says yes."""
    sys.stderr.write(f"{question} [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def _ask(what: str, offered: str, why: str = "", nothing: str = "") -> str:
    reason = f" ({common.shown(why)})" if why else ""
    sys.stderr.write(f"{what} [{common.shown(offered) or nothing}]{reason}: ")
    sys.stderr.flush()
    line = sys.stdin.readline()
    if not line:
        raise wrong_call("nobody answers; nothing was changed")
    return line.strip() or offered
