"""Texts for somebody outside of the house: without accounts, paths and addresses."""

from __future__ import annotations

from collections.abc import Iterable

from hollow_chain.facts.host import Snapshot
from hollow_chain.lazy import pattern

_PATH = pattern(
    r"(?<![\w.<])(?:[A-Za-z]:[\\/][^\s\"'”“,;:]{0,400}|HKEY_\w+\\[^\s,;]{0,400}"
    r"|/[\w.@+\-]{1,255}(?:/(?:[\w.@+\-\\]{1,255}(?: [\w.@+\-]{1,60}){1,4}(?=/)|[\w.@+\-\\]{0,255})){0,40}(?<!\.))"
)
"""A name with blanks in a path of POSIX ends where the next one begins: after the last one begins the rest of the sentence."""
_GROUPS = r"[0-9A-Fa-f]{1,4}(?::[0-9A-Fa-f]{1,4}){0,6}"
_ADDRESS = pattern(
    r"(?<![\w.:])(?:(?:\d{1,3}\.){3}\d{1,3}"
    rf"|\[?(?:(?:[0-9A-Fa-f]{{1,4}}:){{7}}[0-9A-Fa-f]{{1,4}}|(?:{_GROUPS})?::(?:{_GROUPS})?)\]?"
    r"|(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2})(?!\w)"
)
"""RFC 4291, section 2.2: eight groups, or fewer and once two colons; what has single colons only is a moment or a place in a file."""
_MAIL = pattern(r"[\w.+\-]{1,64}@[\w\-]{1,63}(?:\.[\w\-]{1,63}){1,5}\b")
_NAMED = pattern(
    r"(?P<lead>\((?:account|user|group) |belongs to |(?:account|user|group) ['‘“])(?P<name>[\w.\\$\-]{1,100}(?::[\w.\\$\-]{1,100})?)"
)
"""Accounts by the words before them, for texts of which the facts are not at hand."""
_KINDS = (".service", ".socket", ".timer", ".path", ".mount", ".target", ".device")
"""Endings of names of instances, which look like addresses of people."""
_NO_ACCOUNT = frozenset(("", "root", "localsystem", "localservice", "networkservice", "nobody", "system"))
"""Accounts that every such system has: they tell nothing of this one."""


class Discreet:
    """Takes out of texts what is nobody else's business."""

    def __init__(self, accounts: Iterable[str], paths: Iterable[str] = ()) -> None:
        """*accounts* and *paths* are the names of those that the facts tell of."""
        import re

        names = sorted({one for one in accounts if one.casefold() not in _NO_ACCOUNT}, key=len, reverse=True)
        one_of = "|".join(re.escape(name) for name in names)
        self._accounts = re.compile(rf"(?<![\w.\-@])(?:{one_of})(?![\w\-@]|\.\w)") if names else None
        # Only of a name with blanks nobody can tell by its form where it ends.
        blank = sorted({one for one in paths if " " in one}, key=len, reverse=True)
        self._paths = re.compile(rf"(?:{'|'.join(map(re.escape, blank))})(?![\w/])") if blank else None

    def text(self, text: str) -> str:
        """*text* without accounts, paths and addresses."""
        text = self._paths.sub("(a file)", text) if self._paths is not None else text
        text = _NAMED.sub(lambda found: f"{found['lead']}(an account)", _PATH.sub("(a file)", text))
        text = _MAIL.sub(lambda found: found[0] if found[0].endswith(_KINDS) else "(an address)", text)
        text = _ADDRESS.sub("(an address)", text)
        return self._accounts.sub("(an account)", text) if self._accounts is not None else text


def paths_of(snapshot: Snapshot) -> set[str]:
    """The paths of the files and programs that the facts tell of."""
    files = {file.path for host in snapshot.hosts for file in host.files}
    programs = {one.program.path for host in snapshot.hosts for one in host.services if one.program is not None}
    return files | programs


def accounts_of(snapshot: Snapshot) -> set[str]:
    """The names of accounts and groups that the facts tell of."""
    found: set[str] = set()
    for host in snapshot.hosts:
        found.update(account.name for account in host.accounts)
        found.update(change.by for change in host.changes)
        for file in host.files:
            found.update((file.owner, file.group))
        for service in host.services:
            if service.account is not None:
                found.update((service.account.user, service.account.group, *service.account.groups))
    return found
