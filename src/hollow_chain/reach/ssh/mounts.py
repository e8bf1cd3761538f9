"""The mounts of a host, of the kernel's own table of them (proc(5), "mountinfo")."""

from __future__ import annotations

import os

from hollow_chain.reach.handles import kinds_of, made_up


class Mounts:
    """What is mounted where."""

    def __init__(self, text: str) -> None:
        self.closed, self._kinds = kinds_of(text)
        """The places that are not entered: another machine or a program answers for them."""
        self.lines = [line for line in text.splitlines() if " - " in line]

    def is_made_up(self, device: int) -> bool:
        """Whether the files of a device are none of a disk."""
        return made_up(self._kinds.get(f"{os.major(device)}:{os.minor(device)}", ""))
