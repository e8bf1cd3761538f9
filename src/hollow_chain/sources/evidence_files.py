"""Files that are read for evidence: only what root or the service itself has written, and only where nobody could swap them.

Whoever owns a file decides what it says. What a service says of itself is evidence about that service; what anybody else has
left where it looks for its files is none.
"""

from __future__ import annotations

import errno
import stat
from collections.abc import Iterable
from datetime import UTC, datetime
from typing import NamedTuple

from hollow_chain.facts.habits import names_of, own_names_of
from hollow_chain.facts.host import Trust
from hollow_chain.facts.service import Service
from hollow_chain.reach.handles import Content, Folder, NotOpened, Walker
from hollow_chain.reach.interfaces import Reached
from hollow_chain.sources.text_bytes import text_of

_DYNAMIC_USERS = range(61184, 65520)
"""Numbers of accounts that the manager makes for one run (systemd's "Users, Groups, UIDs and GIDs")."""
MAX_CONFIGURATION = 1 << 20
"""Bytes of a configuration file: larger ones are data, whatever they are called."""


class Text(NamedTuple):
    """What a file of a service says, who could have written it, and when it was changed."""

    path: str
    text: str
    changed: datetime
    trust: Trust
    whole: bool = True
    """False: only its end was read, and the first line may be cut off."""


class EvidenceReader:
    """Reads files of services. Use as a context manager, or close it."""

    def __init__(self, reached: Reached) -> None:
        self.reached = reached
        self._walker = reached.files.walker()
        self._accounts = reached.accounts
        self._user = reached.user
        self._numbers: dict[str, int | None] = {}
        self._groups: dict[int, frozenset[int]] = {}

    def __enter__(self) -> EvidenceReader:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the folders that it has come through."""
        self._walker.close()

    @property
    def walker(self) -> Walker:
        """What finds the files."""
        return self._walker

    def text(self, service: Service, path: str, most: int = MAX_CONFIGURATION, from_end: bool = False) -> Text | None:
        """The text of a file of *service*; None where it cannot be read, or is not read for evidence.

        A file that is longer than *most* is not read, but for its end where *from_end*.
        """
        try:
            content, trust = self.content(service, path, most, from_end)
        except OSError:
            return None
        changed = datetime.fromtimestamp(min(max(content.about.st_mtime, 0.0), 1e11), UTC)
        return Text(path, text_of(content.data), changed, trust, not content.begins)

    def content(self, service: Service, path: str, most: int, from_end: bool = False) -> tuple[Content, Trust]:
        """The same in bytes. Raises :class:`OSError` where it cannot be read, or is not read for evidence."""
        content = self._walker.read(path, most, from_end)
        trust = self._trust(service, content)
        if not trust:
            raise NotOpened(errno.EACCES, "a file of somebody else", path)
        if content.about.st_size > most and not from_end:
            raise NotOpened(errno.EFBIG, f"larger than {most >> 10} KiB", path)
        return content, trust

    def _trust(self, service: Service, content: Content) -> Trust:
        """Who could have written a file; empty where it is somebody's of whom the service knows nothing."""
        owner, mode = content.about.st_uid, content.about.st_mode
        root = owner in (0, self._user)
        if root and content.alone and not mode & (stat.S_IWGRP | stat.S_IWOTH):
            return "trusted"
        if not root and owner not in self._account(service) and not self._is_given(service, content, owner):
            return ""
        return "told" if mode & stat.S_IWOTH else "own"

    def _is_given(self, service: Service, content: Content, owner: int) -> bool:
        """Whether root gave a folder of the service's own name, in which the file lies, to the owner of the file: programs that
        start as root and change to an account of their own write there, and the definition does not tell that account. Or whether the
        file itself bears that name, where nobody but root could have put it."""
        if content.alone and content.path.rpartition("/")[2].partition(".")[0] in own_names_of(service):
            return True
        folder: Folder | None = content.folder
        while folder is not None and not self._names_it(service, folder):
            folder = folder.above
        if folder is None or folder.above is None or not folder.above.guards(folder.about):
            return False
        about = folder.about
        return about.st_uid == owner or (bool(about.st_mode & stat.S_IWGRP) and about.st_gid in self._groups_of(owner))

    def _names_it(self, service: Service, folder: Folder) -> bool:
        own = service.program.own_folders if service.program else []
        return folder.path in own or folder.path.rpartition("/")[2] in names_of(service)

    def _account(self, service: Service) -> frozenset[int]:
        account = service.account
        if account is None:
            return frozenset()
        if account.dynamic:
            return frozenset(_DYNAMIC_USERS)
        number = self._number(account.user) if account.user else None
        return frozenset() if number is None else frozenset({number})

    def _number(self, name: str) -> int | None:
        """The number of an account; None where there is none."""
        if name not in self._numbers:
            try:
                self._numbers[name] = self._accounts.user_number(name)
            except (KeyError, ValueError, OverflowError):
                self._numbers[name] = None
        return self._numbers[name]

    def _groups_of(self, user: int) -> frozenset[int]:
        if user not in self._groups:
            try:
                self._groups[user] = frozenset(self._accounts.groups_of(self._accounts.user(str(user))))
            except (KeyError, OverflowError, OSError):
                self._groups[user] = frozenset()
        return self._groups[user]


def texts(reader: EvidenceReader, service: Service, paths: Iterable[str]) -> dict[str, Text]:
    """The texts of those of *paths* that are read for evidence about *service*."""
    wanted = list(dict.fromkeys(paths))
    found = reader.reached.each(lambda path: reader.text(service, path), wanted)
    return {path: text for path, text in zip(wanted, found, strict=True) if text is not None}
