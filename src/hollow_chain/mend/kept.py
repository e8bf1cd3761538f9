"""What hands ask of the files of a host: kept before a step, changed, put back."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Protocol

Kept = dict[str, Any]


class FilesKept(Protocol):
    """Files of one host; the module :mod:`hollow_chain.mend.files_kept` is it for this machine. All raise
    :class:`~hollow_chain.mend.hands.NotDone`."""

    def keep(self, path: Path, content: bool = False) -> Kept:
        """What is at *path*; its *content* where that is wanted too."""

    def put_back(self, path: Path, kept: Kept) -> None:
        """Make *path* what it was."""

    def write_new(self, path: Path, content: bytes, mode: int = 0o644) -> None:
        """A file of ours, whole or not at all."""

    def set_mode(self, path: Path, bits: int, kept: Kept | None = None) -> None:
        """Set the permission bits of what was *kept*."""

    def set_owner(self, path: Path, user: str, group: str, kept: Kept | None = None) -> None:
        """Set owner and group of what was *kept*."""

    def make_folder(self, path: Path, user: str, group: str) -> None:
        """Make a folder with all that is missing above it; the last one belongs to *user*."""

    def missing(self, path: Path) -> list[Path]:
        """*path* and the folders above it that are not there, the highest one first."""

    def set_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Give a left-over another name in its folder."""

    def drop_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Destroy what was set aside."""

    def back_from_aside(self, path: Path, kept: Kept, mend: str) -> None:
        """Give a left-over its name again."""

    def links_below(self, folders: list[Path]) -> Kept:
        """All symbolic links in *folders* and the folders in them, and these folders themselves."""

    def put_links_back(self, folders: list[Path], kept: Kept, units: set[str]) -> None:
        """Make the links that are about *units* what they were."""
