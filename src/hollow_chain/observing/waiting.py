"""What a process waits in: by the kernel's word for one that is still there, and by the trace for one that was ended in a call."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path

from hollow_chain.facts.observed import ObservedWait
from hollow_chain.observing.call_table import CONNECT, ENTER, LOCK, LOOK, OPEN, RUN
from hollow_chain.observing.story import Story
from hollow_chain.reach.here import here

READ, POLL, CHILD, SLEEP, PEER = "read", "poll", "child", "sleep", "peer"
_BLOCKS = (CONNECT, LOCK, OPEN, RUN, LOOK, ENTER)
"""Kinds of traced calls that may wait for somebody else."""
_LONG = 0.5
"""Seconds from which on a call that has not returned is a wait."""
_X86_64 = {
    0: ("read", READ), 1: ("write", "write"), 7: ("poll", POLL), 23: ("select", POLL), 35: ("nanosleep", SLEEP), 42: ("connect", CONNECT),
    43: ("accept", PEER), 44: ("sendto", "write"), 45: ("recvfrom", READ), 47: ("recvmsg", READ), 61: ("wait4", CHILD), 72: ("fcntl", LOCK),
    73: ("flock", LOCK), 74: ("fsync", "write"), 202: ("futex", "thread"), 230: ("clock_nanosleep", SLEEP), 232: ("epoll_wait", POLL),
    247: ("waitid", CHILD), 257: ("openat", OPEN), 270: ("pselect6", POLL), 271: ("ppoll", POLL), 281: ("epoll_pwait", POLL),
    288: ("accept4", PEER), 4: ("stat", LOOK), 2: ("open", OPEN), 130: ("rt_sigsuspend", SLEEP), 34: ("pause", SLEEP),
}  # fmt: skip
_AARCH64 = {
    63: ("read", READ), 64: ("write", "write"), 73: ("ppoll", POLL), 72: ("pselect6", POLL), 101: ("nanosleep", SLEEP),
    115: ("clock_nanosleep", SLEEP), 203: ("connect", CONNECT), 202: ("accept", PEER), 206: ("sendto", "write"), 207: ("recvfrom", READ),
    212: ("recvmsg", READ), 260: ("wait4", CHILD), 95: ("waitid", CHILD), 25: ("fcntl", LOCK), 32: ("flock", LOCK), 82: ("fsync", "write"),
    98: ("futex", "thread"), 22: ("epoll_pwait", POLL), 56: ("openat", OPEN), 242: ("accept4", PEER), 133: ("rt_sigsuspend", SLEEP),
}  # fmt: skip
_NUMBERS = {"x86_64": _X86_64, "aarch64": _AARCH64}
"""Calls by number, of the machines whose numbers are known here (syscall(2), ``unistd.h``)."""
_OF_DESCRIPTOR = (READ, "write", CONNECT, LOCK, PEER)
_SOCKET = re.compile(r"socket:\[(\d+)\]")


def at_work(process: int) -> ObservedWait | None:
    """What a process waits in now; None where it does not wait, or that cannot be told (proc(5), ``/proc/PID/syscall``)."""
    try:
        words = Path(f"/proc/{process}/syscall").read_text().split()
    except OSError:
        return None
    known = _NUMBERS.get(here().architecture, {})
    if len(words) < 2 or not words[0].isdigit() or int(words[0]) not in known:
        return None
    name, kind = known[int(words[0])]
    descriptor = int(words[1], 16)
    thing = _behind(process, descriptor) if kind in _OF_DESCRIPTOR else ""
    if kind == CHILD:
        thing = _child(process)
    elif kind == POLL:
        thing = _asked(process)
    # By its own handle: the path is one of the process's, which may see other files than everybody does.
    holder = _holder(f"/proc/{process}/fd/{descriptor}") if kind == LOCK else 0
    return ObservedWait(name, kind, thing, holder, process, here().processes.program(process))


def _behind(process: int, descriptor: int) -> str:
    try:
        found = str(Path(f"/proc/{process}/fd/{descriptor}").readlink())
    except OSError:
        return ""
    socket = _SOCKET.fullmatch(found)
    return _peer(process, int(socket[1])) if socket else found


def _asked(process: int) -> str:
    """Whom a process that waits for any of several has asked: the one that it is about to be connected with, or the name server (RFC
    1035) whose answer has not come."""
    try:
        links = [str(link.readlink()) for link in Path(f"/proc/{process}/fd").iterdir()]
    except OSError:
        return ""
    own = {int(found[1]) for link in links if (found := _SOCKET.fullmatch(link))}
    for name in ("tcp", "tcp6", "udp", "udp6"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            for row in Path(f"/proc/{process}/net/{name}").read_text().splitlines()[1:]:
                words = row.split()
                peer = _address(words[2]) if int(words[9]) in own else ""
                if peer and (words[3] == _SYN_SENT if name.startswith("tcp") else peer.endswith(_NAME_SERVER)):
                    return peer
    return ""


_SYN_SENT, _NAME_SERVER = "02", ":53"
"""A state of ``/proc/net/tcp`` (proc(5)), and the port of name servers (RFC 1035)."""


def _peer(process: int, inode: int) -> str:
    """With whom a socket is connected, or is about to be (proc(5), ``/proc/PID/net/tcp``)."""
    for name in ("tcp", "udp", "tcp6", "udp6"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            for row in Path(f"/proc/{process}/net/{name}").read_text().splitlines()[1:]:
                words = row.split()
                if int(words[9]) == inode:
                    return _address(words[2])
    with contextlib.suppress(OSError, ValueError, IndexError):
        for row in Path(f"/proc/{process}/net/unix").read_text().splitlines()[1:]:
            words = row.split()
            if int(words[6]) == inode and len(words) > 7:
                return words[7]
    return ""


def _address(text: str) -> str:
    import socket

    address, _, port = text.partition(":")
    raw = bytes.fromhex(address)
    number = int(port, 16)
    plain = b"".join(raw[at : at + 4][::-1] for at in range(0, len(raw), 4))
    if not number:
        return ""
    if len(plain) == 4:
        return f"{socket.inet_ntop(socket.AF_INET, plain)}:{number}"
    return f"[{socket.inet_ntop(socket.AF_INET6, plain)}]:{number}"


def _child(process: int) -> str:
    try:
        children = Path(f"/proc/{process}/task/{process}/children").read_text().split()
    except OSError:
        return ""
    return here().processes.program(int(children[-1])) if children else ""


def _holder(path: str) -> int:
    """The process that has the lock on a file; 0 where that cannot be told."""
    try:
        return here().processes.locks().holder(Path(path).stat())
    except OSError:
        return 0


def _holder_by_path(process: int, path: str) -> int:
    """The same of a file as a process sees it."""
    return _holder(f"/proc/{process}/root{path}") if path.startswith("/") else 0


def waits_of(story: Story, last: list[ObservedWait], now: float) -> list[ObservedWait]:
    """What the processes of a start that did not come to its end waited in: calls of the trace that never returned, and beside them what
    was seen last."""
    holders = {(one.process, one.name): one.holder for one in last}
    found = [
        ObservedWait(
            call.name, known.kind, thing, holders.get((life.number, call.name)) or _holder_by_path(life.number, thing),
            life.number, life.program, round(now - call.at, 1),
        )
        for life, call, known, thing in story.waits
        if known.kind in _BLOCKS and now - call.at > _LONG
    ]  # fmt: skip
    named = {(one.process, one.name) for one in found}
    return [*found, *(one for one in last if (one.process, one.name) not in named)][:_MOST]


_MOST = 12
"""Waits that are kept."""
