"""Files of services that are read for evidence: whose they are, and who else could have written them."""

from __future__ import annotations

from typing import cast

from hollow_chain.facts.host import Trust
from hollow_chain.facts.service import Service
from hollow_chain.reach.control import ControlReached, Declined
from hollow_chain.reach.handles import Content
from hollow_chain.sources.evidence_files import EvidenceReader

_SYSTEM = ("localsystem", "administrators", "nt service\\trustedinstaller")
"""Accounts by which the system itself is kept."""


class ControlEvidenceReader(EvidenceReader):
    """Reads files of services of this family."""

    def _trust(self, service: Service, content: Content) -> Trust:
        """By the owner and the list of the file (the documentation of access control lists)."""
        reached = cast(ControlReached, self.reached)
        try:
            rights = reached.rights(content.path)
        except Declined:
            return ""
        account = (service.account.user if service.account is not None else "").casefold()
        system = {*_SYSTEM, *((reached.me.casefold(),) if reached.all_rights else ())}
        own = {account, account.removeprefix(".\\"), f"nt service\\{service.name.casefold()}"} - {""}
        writers = {
            name.casefold()
            for kind, name, bits in (entry.split(":") for entry in rights.entries if entry.count(":") == 2)
            if kind == "user" and "w" in bits
        } | {rights.owner.casefold()}
        others = {name for name in writers if name != "creator owner"} - system
        if not others:
            return "trusted"
        if all(
            any(name in (mine, mine.rpartition("\\")[2]) or name.endswith(f"\\{mine}") for mine in own)
            for name in others
        ):
            return "own"
        return "told" if rights.owner.casefold() in system | own else ""
