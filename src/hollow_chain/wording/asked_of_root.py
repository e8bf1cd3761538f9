"""What somebody had done with the rights of root, in the records of the programs that lend them (sudo(8), pkexec(1), doas(1))."""

from __future__ import annotations

from datetime import datetime

from hollow_chain.facts.change import Change
from hollow_chain.lazy import pattern
from hollow_chain.wording.secrets import mask_text

_BY_FIELDS = pattern(r"(?P<by>[^\s:]{1,64}) : (?:[A-Z]+=[^;]{0,300} ; ){0,12}COMMAND=(?P<command>.{1,1000})\Z")
"""sudo(8): fields with semicolons between them; one that refuses has its reason in the place of the first."""
_BY_PKEXEC = pattern(r"(?P<by>[^\s:]{1,64}): Executing command .{0,600}\[COMMAND=(?P<command>[^\]]{1,1000})\]")
_BY_DOAS = pattern(r"(?P<by>[^\s:]{1,64}) ran command (?P<command>.{1,1000}?) as root from")
_MOST = 300
"""Characters of a command line that are kept."""
_PATHS_OF_PROGRAMS = ("/usr/bin/", "/usr/sbin/", "/bin/", "/sbin/", "/usr/local/bin/", "/usr/local/sbin/")


def asked_of_root(at: datetime, text: str, writer: str) -> Change | None:
    """The change that such a record tells; None where it tells of none (a session that was opened, a refusal)."""
    for form in (_BY_FIELDS, _BY_PKEXEC, _BY_DOAS):
        found = form.match(text[:4000].lstrip())
        if found is not None:
            command = _short(found["command"].strip())
            told = mask_text(command)[:_MOST]
            return Change(
                at=at, kind="command", what=told, did="asked of root", by=found["by"], source=f"journal ({writer})"
            )
    return None


def _short(command: str) -> str:
    """The command without the folder of its program, where that is one of the usual."""
    return next((command.removeprefix(path) for path in _PATHS_OF_PROGRAMS if command.startswith(path)), command)
