"""Files of a host through the shares of its drives ([MS-SMB2])."""

from __future__ import annotations

from typing import cast

from hollow_chain.reach.control import Declined
from hollow_chain.reach.rpc.session import Session
from hollow_chain.reach.shares import FileAttributes, Shares

_NOT_THERE = (2, 3, 67)
"""Numbers by which a share says that nothing stands there (winerror.h)."""
_READ, _ATTRIBUTES = 0x1, 0x80
"""Rights on a file ([MS-SMB2], 2.2.13.1.1)."""
_SHARED = 7
"""Others may go on reading, writing and deleting it meanwhile (``FILE_SHARE_READ`` and its like)."""


class RpcShares(Shares):
    """What stands on the drives of a host."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._trees: dict[str, int | Declined] = {}

    def drive(self, letter: str) -> int:
        """The share of a drive."""
        known = self._trees.get(letter)
        if known is None:
            try:
                known = self._session.ask(lambda: cast(int, self._session.smb.connectTree(f"{letter}$")))
            except Declined as declined:
                known = declined
            self._trees[letter] = known
        if isinstance(known, Declined):
            raise known
        return known

    def look(self, letter: str, rest: str) -> FileAttributes | None:
        """What stands at a path of a drive."""
        try:
            found = self._session.ask(lambda: self._session.smb.listPath(f"{letter}$", rest))
        except Declined as declined:
            if declined.number in _NOT_THERE:
                return None
            raise
        if not found:
            return None
        return FileAttributes(
            int(found[0].get_attributes()), int(found[0].get_filesize()), float(found[0].get_mtime_epoch())
        )

    def listed(self, letter: str, rest: str) -> list[str]:
        """The names in a folder of a drive."""
        pattern = f"{rest}\\*" if rest else "*"
        found = self._session.ask(lambda: self._session.smb.listPath(f"{letter}$", pattern))
        return [str(one.get_longname()).rstrip("\0") for one in found]

    def part(self, letter: str, rest: str, begins: int, most: int) -> bytes:
        """Up to *most* bytes of a file of a drive."""
        tree, smb = self.drive(letter), self._session.smb

        def read() -> bytes:
            handle = smb.openFile(tree, rest, desiredAccess=_READ | _ATTRIBUTES, shareMode=_SHARED)
            try:
                data = b""
                while len(data) < most:
                    some = smb.readFile(tree, handle, begins + len(data), most - len(data))
                    if not some:
                        break
                    data += some
                return data[:most]
            finally:
                smb.closeFile(tree, handle)

        return self._session.ask(read)
