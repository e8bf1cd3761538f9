"""What all commands share: options, reading the facts, finding the target."""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, nullcontext
from contextvars import ContextVar
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Self

import typer

from hollow_chain.cli import completing
from hollow_chain.trouble import wrong_call
from hollow_chain.wording.counts import counted

if TYPE_CHECKING:
    from collections.abc import Callable, Collection
    from datetime import datetime

    from hollow_chain.facts import Snapshot
    from hollow_chain.facts.host import File, Host
    from hollow_chain.facts.observed import Observation
    from hollow_chain.facts.service import Service
    from hollow_chain.mend.hands import Hands
    from hollow_chain.reach.address import Address
    from hollow_chain.reach.far import FarWay
    from hollow_chain.verdict.experience import Experience

From = Annotated[
    list[str] | None,
    typer.Option(
        "--from",
        help="Where facts come from: a snapshot file or a folder of them, -, ssh://[user@]host, rpc://[user@]host, a file of hosts"
        " (.toml). May be given again. Default: this machine, now.",
        show_default=False,
    ),
]
AtOnce = Annotated[int, typer.Option("--at-once", min=1, max=200, help="So many hosts are asked at once.")]
Within = Annotated[str, typer.Option("--within", help="How long each host is waited for: 60s, 2min.")]
AT_ONCE, WITHIN = 8, "60s"
Probing = Annotated[
    bool,
    typer.Option(
        "--probe",
        help="Also try the ports that needs between hosts lead to: from here, and over SSH from where they are needed.",
    ),
]
Source = Sequence[str] | None
"""What ``--from`` named; None, or nothing: this machine."""
HostName = Annotated[
    str,
    typer.Option(
        "--host",
        help="Name of the host, where the facts hold several.",
        show_default=False,
        autocompletion=completing.hosts,
    ),
]
Json = Annotated[bool, typer.Option("--json", help="Print one JSON object and nothing else.")]
Logs = Annotated[
    list[Path] | None,
    typer.Option(
        "--logs", help="Log file to read as well: syslog, JSON lines, or CSV. May be given again.", show_default=False
    ),
]
Columns = Annotated[
    str,
    typer.Option(
        "--columns",
        help="Which column of the logs holds what: at=Date,text=What,service=Source,number=Code.",
        show_default=False,
    ),
]
Store = Annotated[
    str,
    typer.Option(
        "--store",
        help="Store of cases: a file, or a database URL. Default: HOLLOW_CHAIN_CASES, else a file of your own.",
        show_default=False,
    ),
]
Target = Annotated[
    str,
    typer.Argument(
        help="Service: any part of its name, first letters, program, or port.",
        show_default=False,
        autocompletion=completing.targets,
    ),
]
UNIT_KINDS = (".service", ".socket", ".timer", ".mount", ".automount", ".device", ".target", ".path", ".swap")


def load(
    places: Source,
    words: str = "",
    with_claims: bool = False,
    logs: list[Path] | None = None,
    columns: str = "",
    host: str = "",
    with_packages: bool = False,
    supposed: Callable[[Host, Callable[[str], File | None]], Service] | None = None,
    observed: tuple[Observation, ...] = (),
    closely: Callable[[Host], Collection[str]] | None = None,
    with_changes: bool = False,
    with_versions: bool = False,
    at_once: int = AT_ONCE,
    within: str = WITHIN,
    ways: dict[str, FarWay] | None = None,
    probe: bool = False,
    groups: dict[str, list[str]] | None = None,
) -> Snapshot:
    """The facts to work on; *words* may name a unit that nothing has loaded yet on this machine."""
    from hollow_chain.sources.asked import Asked
    from hollow_chain.sources.places import Asking, facts_from, is_live

    asked = Asked(
        extra_names(words), with_claims, with_packages, observed, supposed, closely, with_changes, with_versions
    )
    with waiting("reading this machine") if is_live(places) else nullcontext(), Awaiting() as told:
        reached: dict[str, FarWay] = {} if ways is None else ways
        asking = Asking(at_once, seconds_of(within, "--within"), told, reached, password, groups=groups)
        snapshot = facts_from(places, asked, author(), asking)
        if probe:
            add_probes(snapshot, reached)
    if logs:
        from hollow_chain.sources import log_files

        log_files.add(snapshot, logs, columns, host)
    elif columns:
        raise wrong_call("--columns speaks of logs; name them with --logs")
    for text in (f"{item.what}{f' ({item.why})' if item.why else ''}" for item in snapshot.unread):
        warn(text)
    for one in snapshot.unreached:
        warn(f"{one.name} could not be read: {one.why}")
    return snapshot


def add_probes(snapshot: Snapshot, ways: dict[str, FarWay]) -> None:
    """Try the ports that needs between hosts lead to."""
    from hollow_chain.causes import Facts
    from hollow_chain.chain import Graph
    from hollow_chain.sources.probing import Called, tried
    from hollow_chain.verdict.between_hosts import crossings

    graph = Graph(snapshot)
    found = crossings(Facts(graph))
    wanted = [Called(one.client.host, graph.hosts[one.server.host], way.port) for one in found for way in one.ports]
    snapshot.probes = [*snapshot.probes, *tried(wanted, ways)]


def is_asked_now(source: Source) -> bool:
    """Whether hosts are read as they are now: this one, or others over the network."""
    return not source or any("://" in one for one in source)


_PASSWORDS: dict[tuple[str, str], str] = {}
"""Those that were given during this call, empty where none was: a connection that broke off is made anew without asking again."""


def password(address: Address, user: str) -> str:
    """The password of a user of a host, from a person at the terminal, who is asked once for each."""
    from hollow_chain.reach.login import nobody

    if (str(address), user) not in _PASSWORDS:
        _PASSWORDS[str(address), user] = _asked_for(address, user)
    return _PASSWORDS[str(address), user] or nobody(address, user)


def _asked_for(address: Address, user: str) -> str:
    """What somebody types; empty where nobody does."""
    if not (sys.stdin and sys.stdin.isatty() and sys.stderr.isatty()):
        return ""
    import getpass

    try:
        return getpass.getpass(f"Password of {shown(user)} for {shown(address.host)}: ", sys.stderr)
    except EOFError:
        return ""


def seconds_of(text: str, option: str) -> float:
    """The seconds that a duration behind *option* means. Raises :class:`Trouble` (2)."""
    from hollow_chain.wording.durations import length

    try:
        found = length(text)
    except ValueError as problem:
        raise wrong_call(f"{option}: {problem}") from None
    if not found:
        raise wrong_call(f"{option}: nothing can be done in no time")
    return found


def moment_of(text: str, option: str, now: datetime | None = None) -> datetime:
    """The moment that a time back, or a moment, behind *option* means. Raises :class:`Trouble` (2)."""
    from datetime import UTC, datetime

    from hollow_chain.wording.durations import FORMS, since

    try:
        return since(text, now or datetime.now(UTC))
    except (ValueError, OverflowError, OSError):
        raise wrong_call(f"{option} takes {FORMS}, and not {text!r}") from None


def author() -> str:
    from hollow_chain import __version__

    return f"hollow-chain {__version__}"


def extra_names(words: str) -> tuple[str, ...]:
    """Names under which the manager may know *words* although no list shows it (an instance not yet started)."""
    plain = words.strip()
    if not plain or len(plain) > 200 or any(c.isspace() or c == "/" for c in plain) or plain.isdigit():
        return ()
    name = plain if plain.endswith(UNIT_KINDS) else f"{plain}.service"
    return () if name.rpartition(".")[0].endswith("@") else (name,)


def unit_name(words: str) -> str:
    """The name that *words* would have as a unit of this machine; empty where they cannot be one."""
    return next(iter(extra_names(words)), "")


class waiting:
    """Say on standard error, on a terminal only, what is being waited for; wipe it afterwards."""

    def __init__(self, text: str) -> None:
        self._text = f"{text} ..." if sys.stderr.isatty() else ""

    def __enter__(self) -> None:
        if self._text:
            sys.stderr.write(self._text)
            sys.stderr.flush()

    def __exit__(self, *_: object) -> None:
        if self._text:
            sys.stderr.write("\r" + " " * len(self._text) + "\r")
            sys.stderr.flush()


class ProgressLine:
    """Words on standard error on how far something is: on a terminal over the same line again, and wiped at the end; elsewhere, such as
    in a log, a line after five seconds and then each five."""

    def __enter__(self) -> Self:
        self._since = self._last = time.monotonic()
        self._told, self._shows = 0, sys.stderr.isatty()
        return self

    def _say(self, text: str, in_a_log: str) -> None:
        """Say *text*, or *in_a_log* where nothing can be written over."""
        now = time.monotonic()
        if self._shows:
            line = f"\r{text[:100]} ..."
            sys.stderr.write(line.ljust(self._told))
            sys.stderr.flush()
            self._told = max(self._told, len(line))
        elif now - self._last > _EVERY:
            self._last = now
            tell(f"{in_a_log}, {now - self._since:.0f} s")

    def __exit__(self, *_: object) -> None:
        if self._told:
            sys.stderr.write("\r" + " " * self._told + "\r")
            sys.stderr.flush()


class Awaiting(ProgressLine):
    """Says which hosts are still awaited."""

    def __call__(self, read: int, lost: int, awaited: Sequence[str]) -> None:
        """So many are read, so many could not be, and these are asked now."""
        if not awaited:
            return
        names = ", ".join(shown(name) for name in awaited[:4])
        more = f" and {len(awaited) - 4} more" if len(awaited) > 4 else ""
        done = [counted(read, "host") + " read"] * bool(read) + [f"{lost} not read"] * bool(lost)
        text = "; ".join([*done, f"asking {names}{more}"])
        self._say(text, text)


class Telling(ProgressLine):
    """Says how many boots are rehearsed; on a terminal only after a second, since most take less."""

    def __call__(self, done: int, runs: int) -> None:
        """So many are done."""
        if not self._shows or time.monotonic() - self._since > _PATIENCE:
            self._say(f"{done:,} of {runs:,} boots", f"{done:,} of {counted(runs, 'boot')} rehearsed")


_WARNED: ContextVar[set[str] | None] = ContextVar("warned", default=None)


@contextmanager
def each_warning_once() -> Iterator[None]:
    """Within this, a warning is given the first time only: who asks again and again need not hear it again and again."""
    token = _WARNED.set(set())
    try:
        yield
    finally:
        _WARNED.reset(token)


def warn(text: str) -> None:
    """A warning on standard error."""
    from hollow_chain.show.clean import clean

    if (warned := _WARNED.get()) is not None:
        if text in warned:
            return
        warned.add(text)
    print(f"hollow-chain: warning: {clean(text, 500)}", file=sys.stderr)  # noqa: T201


def tell(text: str) -> None:
    """A word on the side, on standard error."""
    from hollow_chain.show.clean import clean

    print(f"hollow-chain: {clean(text, 500)}", file=sys.stderr)  # noqa: T201


def learned(store: str = "") -> Experience | None:
    """What confirmed cases say of how usual each cause is; None where there are none."""
    from hollow_chain.experience.confirmed import confirmed

    found = confirmed(store)
    if not found:
        return None
    from hollow_chain.verdict.experience import Experience

    return Experience(found)


def put_piece(text: str) -> None:
    """A piece of a JSON document on standard output; more of it follows."""
    sys.stdout.write(_for_any_code_page(text))


def put_bytes(data: bytes) -> None:
    """A finished file on standard output."""
    sys.stdout.flush()
    sys.stdout.buffer.write(data)


def put(text: str) -> None:
    """A finished document on standard output."""
    sys.stdout.write((_for_any_code_page(text) if text.startswith("{") else text) + "\n")


def _for_any_code_page(document: str) -> str:
    """A JSON document as it may be written to a stream that is not of UTF-8: signs beyond ASCII, which stand in its texts only, are
    escaped (RFC 8259, 7 and 8.1)."""
    encoding = (sys.stdout.encoding or "utf-8").lower().replace("-", "").replace("_", "")
    if encoding.startswith("utf8") or document.isascii():
        return document
    return "".join(one if one.isascii() else _escaped(one) for one in document)


def _escaped(sign: str) -> str:
    pair = sign.encode("utf-16-be", "surrogatepass")
    return "".join(f"\\u{pair[at : at + 2].hex()}" for at in range(0, len(pair), 2))


def hands_of(source: Source, target: str) -> Hands:
    """What carries out: on this machine, or on the stand-in host in the folder *source*."""
    if not source:
        from hollow_chain.mend.here import hands

        return hands(unit_name(target))
    from hollow_chain.lab.state import FILE

    if any("://" in one for one in source):
        raise wrong_call(
            "this is done on the host itself: over the network hosts are read, and mended with 'mend --apply'"
        )
    if len(source) > 1 or not (Path(source[0]) / FILE).is_file():
        raise wrong_call(
            f"{source[0]} holds facts, not a host: a plan is carried out on this machine (without --from) or on a stand-in host"
        )
    from hollow_chain.mend.lab_hands import LabHands

    return LabHands(Path(source[0]))


def write_out(path: Path, data: bytes, mode: int = 0o644, named: bool = True) -> None:
    """Write a file whole or not at all. *named* says whether the user chose the path, and so the links on it."""
    from hollow_chain.sources.files import write_atomically

    if os.path.isdir(path):  # noqa: PTH112 - a link that may not be followed is none
        raise wrong_call(f"cannot write {path}: it is a folder; name a file in it")
    write_atomically(path, data, mode, named)


def write_private(path: Path, data: bytes, named: bool = True) -> None:
    """The same, readable by its owner only: facts of a host are nobody else's business."""
    write_out(path, data, 0o600, named)


def shown(text: object) -> str:
    """*text* as it may go to a terminal."""
    from hollow_chain.show.clean import clean

    return clean(str(text))


_PATIENCE, _EVERY = 1.0, 5.0
"""Seconds after which somebody who looks at a terminal wonders, and after which a log is told that it goes on."""
