"""What the kernel says of a call that a policy of the host refused: AppArmor (apparmor(7)) and SELinux (its records of type ``AVC``)."""

from __future__ import annotations

from typing import NamedTuple

from hollow_chain.lazy import pattern

_FIELD = pattern(r"\b(?P<name>[a-z_]{2,30})=(?:\"(?P<quoted>[^\"]{0,1000})\"|(?P<plain>[^\s\"]{1,300}))")
_OF_TYPES = pattern(r"\bavc:\s{1,4}denied\s{1,4}\{ (?P<asked>[a-z_ ]{1,200}) \}")
_LONGEST = 4000
"""Characters of a record that are gone through."""


class PolicyDenial(NamedTuple):
    """A call that a policy refused."""

    system: str
    """``AppArmor`` or ``SELinux``."""
    subject: str
    """The profile, or the context, that it ran under."""
    thing: str
    """The path, the right or the port that it was about; empty where none is named."""
    asked: str
    """What it wanted to do with it."""
    process: int
    command: str
    """The name of the process, as the kernel has it: of 15 characters (proc(5), ``comm``)."""


def denial_in(text: str) -> PolicyDenial | None:
    """What a record of the kernel tells of a refused call; None where it tells of none, or of one that was let through all the same."""
    text = text[:_LONGEST]
    fields = {match["name"]: match["quoted"] or match["plain"] or "" for match in _FIELD.finditer(text)}
    types = _OF_TYPES.search(text)
    if types is None and fields.get("apparmor") != "DENIED":
        return None
    if types is not None and fields.get("permissive") == "1":
        return None
    process = int(fields["pid"]) if fields.get("pid", "").isdigit() and len(fields["pid"]) < 11 else 0
    if types is not None:
        thing = fields.get("path") or fields.get("name") or (f"port {fields['src']}" if "src" in fields else "")
        return PolicyDenial(
            "SELinux", fields.get("scontext", ""), thing, types["asked"].strip(), process, fields.get("comm", "")
        )
    thing = fields.get("name") or fields.get("capname", "")
    asked = fields.get("denied_mask") or fields.get("requested_mask") or fields.get("operation", "")
    return PolicyDenial("AppArmor", fields.get("profile", ""), thing, asked, process, fields.get("comm", ""))
