"""Sockets and adapters of this machine, as psutil tells them on every system."""

from __future__ import annotations

import socket

from hollow_chain.reach.interfaces import Interface, Socket


class OwnNetwork:
    """Sockets and adapters of this machine."""

    def sockets(self, most: int) -> list[Socket]:
        """Those that wait for others; process 0 where the system does not tell whose one is."""
        import psutil

        try:
            connections = psutil.net_connections("inet")[:most]
        except psutil.Error as error:
            raise OSError(str(error)) from None
        found = []
        for one in connections:
            tcp = one.type == socket.SOCK_STREAM
            if not one.laddr or (one.status != psutil.CONN_LISTEN if tcp else bool(one.raddr)):
                continue
            protocol = ("tcp" if tcp else "udp") + ("6" if one.family == socket.AF_INET6 else "")
            found.append(Socket(one.laddr.port, one.laddr.ip, protocol, one.pid or 0))
        return found

    def interfaces(self) -> list[Interface]:
        """The adapters; a hardware address in the one form, whatever the system parts it by."""
        import psutil

        try:
            addresses, states = psutil.net_if_addrs(), psutil.net_if_stats()
        except (psutil.Error, OSError):
            return []
        return [
            Interface(
                name,
                next((a.address.replace("-", ":").lower() for a in entries if a.family == psutil.AF_LINK), ""),
                [a.address for a in entries if a.family in (socket.AF_INET, socket.AF_INET6)],
                states[name].isup if name in states else None,
            )
            for name, entries in addresses.items()
        ]
