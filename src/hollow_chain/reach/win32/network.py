"""Sockets and adapters of this machine."""

from __future__ import annotations

from hollow_chain.reach.network import OwnNetwork


class Win32Network(OwnNetwork):
    """Sockets and adapters of this machine."""

    def local_sockets(self, most: int) -> dict[str, int]:
        """Not told by this system."""
        raise OSError("this system lists no sockets of the file system")
