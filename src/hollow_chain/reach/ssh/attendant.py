"""What answers on the other side: one shell for the whole conversation, in a loop of a fixed text.

No name that a host has told ever stands in a line that a shell reads: names go over standard input, and reach the programs that look
at them as arguments behind ``--`` (xargs(1), ``-0``). Nothing is written there. An answer ends with a word that is drawn at random for
each question, so that nothing in an answer can pass for its end.
"""

from __future__ import annotations

import asyncio
import secrets
from collections import deque
from collections.abc import Coroutine
from concurrent.futures import Future
from typing import Any, TypeVar

import asyncssh

from hollow_chain.reach.handles import PACKAGE_LIST, PACKAGE_LISTS
from hollow_chain.reach.ssh.connection import LOOP, FarConnection
from hollow_chain.reach.unreached import Unreached

T = TypeVar("T")
MAX_ANSWER = 64 << 20
"""Bytes of one answer: ten times what a large host gives."""
STAT = "%f %i %d %h %u %g %s %.9X %.9Y %.9Z"
"""What is asked of a file (stat(1)): mode, number, device, names, owner, group, size, and three moments."""
LISTED = "%y %m %i %D %n %U %G %s %A@ %T@ %C@"
"""What is told of each thing in a folder (find(1), "-printf"): kind, rights, number, device, names, owner, group, size, and three
moments."""
_KERNEL = " ".join(
    f"/proc/{name}"
    for name in (
        "net/tcp", "net/tcp6", "net/udp", "net/udp6", "net/unix", "stat", "locks", "self/mountinfo", "sys/kernel/hostname",
        "sys/kernel/osrelease", "sys/kernel/random/boot_id", "sys/net/ipv4/ip_unprivileged_port_start",
    )
)  # fmt: skip
_EACH = " ".join(f"/proc/[0-9]*/{name}" for name in ("cgroup", "comm", "stat", "cmdline"))
_BOOKS = "/etc/machine-id /etc/passwd /etc/group /sys/class/net/*/address /sys/class/net/*/operstate /sys/class/net/*/carrier"
_JOURNAL = (
    "MESSAGE,PRIORITY,_PID,_UID,MESSAGE_ID,SYSLOG_IDENTIFIER,CONFIG_FILE,CONFIG_LINE,ERRNO,_COMM,_EXE,_SYSTEMD_UNIT,_TRANSPORT,"
    "JOB_TYPE,_SYSTEMD_INVOCATION_ID,UNIT,_BOOT_ID,JOB_RESULT,OBJECT_SYSTEMD_UNIT,_HOSTNAME,_CMDLINE,_AUDIT_LOGINUID"
)
_KINDS = {
    # Each line of a file of the kernel's stands behind the name of the file, whatever a process wrote into it.
    "host": (
        "date +%s.%N; uname -m; id -u; getconf _NPROCESSORS_ONLN || echo 0; command -v systemd-stdio-bridge || echo -; echo;"
        f' grep -a -H "" {_KERNEL} {_BOOKS} {_EACH} 2>/dev/null'
    ),
    "links": (
        'find /proc/[0-9]*/exe /proc/[0-9]*/fd -maxdepth 1 -type l "(" -name exe -o -lname "socket:*" ")"'
        ' -printf "%p\\0%l\\0" 2>/dev/null'
    ),
    "open": 'find /proc/[0-9]*/fd -maxdepth 1 -type l -lname "/*" -printf "%p\\0%l\\0" 2>/dev/null',
    "stat": f'xargs -0 -r stat --printf="{STAT}\\0%n\\0%N\\0" -- 2>/dev/null',
    "names": 'xargs -0 -r sh -c "exec find -H \\"\\$@\\" -mindepth 1 -maxdepth 1 -printf'
    f' \\"%h\\\\0%f\\\\0{LISTED}\\\\0%l\\\\0\\"" sh 2>/dev/null',
    "content": "tar -c -f - -P --no-recursion --null -T - 2>/dev/null",
    "packages": f"grep -s -H -x -F -f - {PACKAGE_LISTS}/*{PACKAGE_LIST}",
    "network": "ip -j address 2>/dev/null",
    "journal": f"xargs -0 journalctl -q --no-pager -o export --output-fields={_JOURNAL} 2>/dev/null",
    "account": "xargs -0 -r getent passwd -- 2>/dev/null",
    "group": "xargs -0 -r getent group -- 2>/dev/null",
    "rights": "xargs -0 -r getfacl -n -p -E -- 2>/dev/null",
}
"""The kinds of questions, and what answers each: names that it is about come over standard input."""
_BY_LINES = ("packages",)
"""Questions whose names come a line each."""
_LOOP = (
    "export LC_ALL=C QUOTING_STYLE=literal PATH=/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin;"
    " while read -r end size kind; do case $kind in "
    + " ".join(f"{kind}) head -c $size | {{ {text}; }} ;;" for kind, text in _KINDS.items())
    + f' *) head -c $size >/dev/null ;; esac | head -c {MAX_ANSWER}; printf "\\n%s\\n" $end; done'
)
_AS_WHOM = (
    'if [ "$(id -u)" -ne 0 ] && sudo -n -- sh -c : 2>/dev/null; then exec sudo -n -- sh -c "$0"; fi; exec sh -c "$0"'
)
COMMAND = f"exec sh -c '{_AS_WHOM}' '{_LOOP}'"
"""The line that starts it: as root where the user who logged in is root, or may become root without being asked (sudo(8))."""


class Attendant:
    """Asks questions of one host, in their order; several may be under way. All of it runs in the loop of the connections."""

    def __init__(self, link: FarConnection, command: str = COMMAND) -> None:
        self._link, self._command = link, command
        self._process: Any = None
        self._waiting: deque[tuple[bytes, asyncio.Future[bytes]]] = deque()
        self._reader: asyncio.Task[None] | None = None
        self._starting = asyncio.Lock()
        self._ended = ""
        """Why no more answers come."""

    def ask(self, kind: str, names: list[str] | None = None, seconds: float | None = None) -> bytes:
        """The answer to one question about *names*. Raises :class:`Unreached`."""
        return self._link.ask(self.answer(kind, names), seconds)

    def begin(self, work: Coroutine[Any, Any, T]) -> Future[T]:
        """Have a piece of work begin that asks some."""
        return LOOP.begin(work, self._link.answer_seconds)

    async def answer(self, kind: str, names: list[str] | None = None) -> bytes:
        """The same, in the loop."""
        async with self._starting:
            if self._process is None:
                await self._start()
        if self._ended:
            raise Unreached(self._ended)
        part = b"\n" if kind in _BY_LINES else b"\0"
        given = b"".join(name.encode("utf-8", "surrogateescape") + part for name in names or ())
        end = secrets.token_hex(16)
        future: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._waiting.append((f"\n{end}\n".encode(), future))
        self._process.stdin.write(f"{end} {len(given)} {kind}\n".encode() + given)
        return await future

    async def _start(self) -> None:
        self._process = await self._link.connection.create_process(self._command, encoding=None)
        self._reader = asyncio.create_task(self._read())

    async def _read(self) -> None:
        """Hand out answers as they come; where no more will come, say so to all who wait."""
        why = ""
        try:
            await self._hand_out()
            said = (await self._process.stderr.read(2000)).decode("utf-8", "replace").strip()
            why = said.splitlines()[-1] if said else "its shell ended before it had answered"
        except (asyncssh.Error, OSError):
            why = "the connection broke off"
        finally:
            self._ended = why or "it is not asked any longer"
            while self._waiting:
                _, future = self._waiting.popleft()
                if not future.done():
                    future.set_exception(Unreached(self._ended))

    async def _hand_out(self) -> None:
        held = bytearray()
        searched = 0
        while piece := await self._process.stdout.read(1 << 18):
            held += piece
            while self._waiting:
                end, future = self._waiting[0]
                at = held.find(end, max(0, searched - len(end)))
                if at < 0:
                    searched = len(held)
                    break
                self._waiting.popleft()
                if not future.done():
                    future.set_result(bytes(held[:at]))
                del held[: at + len(end)]
                searched = 0
            if len(held) > 2 * MAX_ANSWER:
                self._process.close()
                return

    def close(self) -> None:
        """Let the shell there end."""
        if self._process is not None:
            LOOP.run(self._stop(), 5)

    async def _stop(self) -> None:
        self._process.stdin.write_eof()
        self._process.close()
