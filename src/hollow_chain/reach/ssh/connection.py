"""One connection to a host: what is asked over it, waited for, counted and bounded.

All connections are served by one loop in a thread of its own; whoever asks waits in his own thread. So readers stay what they are,
and many hosts are asked at once.
"""

from __future__ import annotations

import asyncio
import contextlib
import threading
from collections.abc import Callable, Coroutine
from concurrent.futures import Future
from pathlib import Path
from typing import Any, TypeVar

from hollow_chain.facts.host import CameTo
from hollow_chain.lacking import needs
from hollow_chain.reach.address import Address
from hollow_chain.reach.ssh.refusals import KeyTold, refusal
from hollow_chain.reach.unreached import Unreached

with needs("remote", "a host over SSH"):
    import asyncssh

T = TypeVar("T")
CONNECT_SECONDS = 15.0
"""For a connection and the login: twice what the slowest link that anybody works over takes."""
_ALIVE_EVERY, _ALIVE_MOST = 10, 3
"""Seconds between questions whether the other side is still there, and how many may stay unanswered (ssh_config(5),
``ServerAliveInterval``)."""


class _Loop:
    """The loop that serves all connections of this process."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._loop: asyncio.AbstractEventLoop | None = None

    def begin(self, work: Coroutine[Any, Any, T], seconds: float) -> Future[T]:
        """Have *work* begin; after *seconds* it has come to a :class:`TimeoutError`."""
        return asyncio.run_coroutine_threadsafe(asyncio.wait_for(work, seconds), self._started())

    def run(self, work: Coroutine[Any, Any, T], seconds: float, meanwhile: Callable[[], object] = lambda: None) -> T:
        """What *work* gives; *meanwhile* is done here. Raises :class:`TimeoutError` after *seconds*, and what *work* raises."""
        future = self.begin(work, seconds)
        try:
            meanwhile()
            return future.result()
        except BaseException:
            future.cancel()  # Ctrl-C while it is under way
            raise

    def _started(self) -> asyncio.AbstractEventLoop:
        with self._lock:
            if self._loop is None:
                self._loop = asyncio.new_event_loop()
                threading.Thread(target=self._loop.run_forever, daemon=True, name="connections").start()
            return self._loop


LOOP = _Loop()


class FarConnection:
    """A connection to a host. Use as a context manager, or close it. Raises :class:`Unreached`."""

    def __init__(
        self,
        address: Address,
        connect_seconds: float = CONNECT_SECONDS,
        answer_seconds: float = 60.0,
        meanwhile: Callable[[], object] = lambda: None,
    ) -> None:
        self.address = address
        self.answer_seconds = answer_seconds
        """How long an answer is waited for."""
        self.wait: Callable[[Future[Any]], Any] = Future.result
        """How whoever asks waits for an answer."""
        self._connection = self._connected(connect_seconds, meanwhile)

    def __enter__(self) -> FarConnection:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def _connected(self, seconds: float, meanwhile: Callable[[], object]) -> asyncssh.SSHClientConnection:
        try:
            return LOOP.run(self._connect(seconds), seconds + 5, meanwhile)
        except (OSError, asyncssh.Error, TimeoutError, ValueError) as error:
            raise refusal(error, self.address, lambda: _key_told(self.address), seconds) from None

    async def _connect(self, seconds: float) -> asyncssh.SSHClientConnection:
        at = self.address
        given: dict[str, Any] = {"port": at.port} if at.port else {}
        given |= {"username": at.user} if at.user else {}
        return await asyncssh.connect(
            at.host,
            **given,
            connect_timeout=seconds,
            login_timeout=seconds,
            keepalive_interval=_ALIVE_EVERY,
            keepalive_count_max=_ALIVE_MOST,
            agent_forwarding=False,
            x11_forwarding=False,
            # A password would have to be asked for in the middle of many hosts; keys, agents and tickets need no asking.
            password=None,
            kbdint_auth=False,
            password_auth=False,
        )

    def ask(self, work: Coroutine[Any, Any, T], seconds: float | None = None) -> T:
        """What *work* gives, which is a part of the conversation with the host. Raises :class:`Unreached` where it breaks off."""
        future = LOOP.begin(work, seconds or self.answer_seconds)
        try:
            answer: T = self.wait(future)
            return answer
        except TimeoutError:
            raise Unreached(f"no answer within {seconds or self.answer_seconds:.0f} s") from None
        except (asyncssh.ConnectionLost, asyncssh.DisconnectError, ConnectionError, EOFError) as error:
            raise refusal(error, self.address, lambda: KeyTold(True), self.answer_seconds) from None
        except KeyboardInterrupt:
            future.cancel()
            raise

    @property
    def connection(self) -> asyncssh.SSHClientConnection:
        """What it all goes over."""
        return self._connection

    def call(self, address: str, port: int, seconds: float) -> tuple[CameTo, str]:
        """What a call from the other side to a port of a third host comes to, and why."""
        try:
            LOOP.run(self._call(address, port), seconds)
        except TimeoutError:
            return "no answer", f"nothing came within {seconds:g} s"
        except asyncssh.ChannelOpenError as error:
            reason_of = (error.reason or "").lower()
            if error.code == asyncssh.OPEN_ADMINISTRATIVELY_PROHIBITED:
                return "not tried", "its SSH server lets nobody call on (AllowTcpForwarding)"
            return ("refused" if "refused" in reason_of else "no answer"), reason_of[:100]
        except (asyncssh.Error, OSError) as error:
            return "not tried", str(error)[:100]
        return "answered", ""

    async def _call(self, address: str, port: int) -> None:
        _, writer = await self._connection.open_connection(address, port)
        writer.close()

    def close(self) -> None:
        """End the conversation."""
        with contextlib.suppress(Exception):
            LOOP.run(self._end(), 5)

    async def _end(self) -> None:
        self._connection.close()
        with contextlib.suppress(Exception):
            await asyncio.wait_for(self._connection.wait_closed(), 2)


_KNOWN = ("~/.ssh/known_hosts", "/etc/ssh/ssh_known_hosts")
"""Where known keys lie where nothing else is said (ssh(1), "FILES")."""


def _key_told(at: Address) -> KeyTold:
    """Whether a key of the host is known from before, by the files that the user's configuration names."""
    try:
        options = asyncssh.SSHClientConnectionOptions(host=at.host, **({"port": at.port} if at.port else {}))
        named = options.known_hosts if isinstance(options.known_hosts, list | tuple) else ()
        files = [str(file) for file in (named or _KNOWN) if Path(file).expanduser().is_file()]
        host, port = options.host or at.host, options.port or 22
        found = asyncssh.match_known_hosts([str(Path(file).expanduser()) for file in files], host, "", port)
    except Exception:  # whatever is wrong with these files, the key was not to be proven by them
        return KeyTold(False)
    return KeyTold(any(found[:2]))
