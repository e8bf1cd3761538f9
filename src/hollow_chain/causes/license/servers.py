"""License servers and license daemons that are not up, or one too many."""

from __future__ import annotations

from collections.abc import Iterator

from hollow_chain.causes.acts import restart, start
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.finding import AFTER_RESTART, PROOF, SAID, Finding, Mend
from hollow_chain.causes.license.view import ANY_STATE, ENDS, SERVER, ServerView, log_words, read, told, views
from hollow_chain.causes.nature import Boot, When
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import Standing, failed_last
from hollow_chain.facts.license import PublisherDaemon
from hollow_chain.wording import lines


@cause("license-daemon-missing", Boot.STAYS, states=ANY_STATE, when=When.LICENSED)
def license_daemon_missing(case: Case) -> Iterator[Finding]:
    """The program of a license daemon is not where the file says, or no daemon is named for an entitlement.

    Looks at: the program's path in the file and what is there; what the server says of the daemon.
    Convinced by: a path with nothing behind it, and a daemon that is not up.
    Against: a daemon that is up.
    Mend: correct the path in the file (it is not signed), or install the program.
    """
    for view in views(case):
        for daemon in _down(view):
            seen = case.file(daemon.program) if daemon.program else None
            absent = seen is not None and (not seen.exists or seen.executable is False)
            said = "is not there" in daemon.says
            if not absent and not said:
                continue
            evidence = [told(view, f"daemon {daemon.name}: {daemon.says}", SAID)] if daemon.says else []
            if seen is not None and absent:
                evidence.append(
                    case.seen(
                        f"{daemon.program} {'does not exist' if not seen.exists else 'is not executable'}",
                        FILES,
                        bears=SAID,
                    )
                )
            yield Finding(
                says=f"The program of the license daemon {daemon.name} is not there: {daemon.program or 'not named'}.",
                evidence=tuple(evidence),
                mends=(
                    Mend(f"Correct the program's path in the license file (it is not signed), or install it; then restart {case.node.name}.",
                         AFTER_RESTART),
                ),
                holder=daemon.name,
                explains=("license-daemon-down",),
            )  # fmt: skip
            return


def _down(view: ServerView) -> Iterator[PublisherDaemon]:
    """The daemons that are not up, by the server's own answer; with what the file says of them."""
    in_file = {d.name: d for d in view.file.daemons} if view.file is not None else {}
    wanted = {e.daemon for e in view.wanted() if e.daemon} if view.wants else set()
    for daemon in view.server.daemons:
        if daemon.up is False and (not wanted or daemon.name in wanted):
            known = in_file.get(daemon.name)
            yield PublisherDaemon(
                name=daemon.name, up=False, says=daemon.says, program=daemon.program or (known.program if known else ""),
                port=daemon.port or (known.port if known else None),
            )  # fmt: skip


@cause("license-server-down", Boot.OVER, lacks_only_a_start=True, states=ANY_STATE, when=When.LICENSED)
def license_server_down(case: Case) -> Iterator[Finding]:
    """The license server does not answer, and an application needs it.

    Looks at: the state of its service, whether its port answers, what the application says.
    Convinced by: no answer, or a service that was stopped or killed.
    Against: a reason why it cannot run (then that is the cause).
    Mend: start it; where it hangs, restart it.
    """
    for view in views(case):
        silent = case.standing.well and view.server.answers is False
        above = case.needed_from
        ended = (
            case.standing in (Standing.DOWN, Standing.IDLE)
            and above is not None
            and case.service.startup != "disabled"
            and _merely_ended(case)
        )
        if not silent and not ended:
            continue
        how = "runs, but does not answer" if silent else f"is {case.service.state}"
        evidence = [
            case.seen(
                f"{case.node.name} {how}{f' on port {view.server.port}' if view.server.port else ''}",
                SERVER,
                bears=PROOF,
            )
        ]
        evidence += log_words(view, "no connection", "no answer", "denied")
        yield Finding(
            says=f"The license server {case.node.name} {how}.",
            evidence=tuple(evidence),
            mends=(
                Mend(
                    f"{'Restart' if silent else 'Start'} {case.node.name}; then start what needs it.",
                    acts=((restart if silent else start)(case.node.name),),
                ),
            ),
            explains=("stopped", "manual-not-started", "killed", "listener-off", "never-started"),
        )


def _merely_ended(case: Case) -> bool:
    """Whether it is down for no reason of its own: stopped, killed, or not started."""
    last = case.service.last
    if last is None or not failed_last(case.service):
        return True
    return last.result == "signal" or (last.signal is not None and last.exit_status in (None, 0))


@cause("license-daemon-down", Boot.OVER, states=ANY_STATE, when=When.LICENSED)
def license_daemon_down(case: Case) -> Iterator[Finding]:
    """The license server answers, and a license daemon is not up.

    Looks at: what the server says of each daemon, and whether the daemon itself answers.
    Convinced by: the server's own word.
    Against: a program that is not there (then ``license-daemon-missing``); a port that is taken (then ``port-held``).
    Mend: read the daemon's words in the server's log; restart the server.
    """
    for view in views(case):
        for daemon in _down(view):
            yield Finding(
                says=f"{case.node.name} answers, but its license daemon {daemon.name} is not up{f': {daemon.says}' if daemon.says else ''}.",
                evidence=(told(view, f"daemon {daemon.name} is not up{f': {daemon.says}' if daemon.says else ''}", PROOF),
                          *log_words(view, f"daemon {daemon.name.lower()}")),
                mends=(Mend(f"Mend what the log of {case.node.name} says of the daemon {daemon.name}; then restart it.",
                            AFTER_RESTART, seeks=True),),
                holder=daemon.name,
            )  # fmt: skip
            return


@cause("license-second-server", Boot.STAYS, states=("running", *NOT_UP), when=When.FAILED | When.LICENSED)
def license_second_server(case: Case) -> Iterator[Finding]:
    """A second license server was started while the first still runs.

    Looks at: its last words; other license servers and processes that hold its lock or port.
    Convinced by: its own words, and the first one being there.
    Against: nobody holding lock or port (then the lock is a left-over).
    Mend: keep one of the two.
    """
    said = lines.saying(case.last_events(), "second server")
    if not said or not any(True for _ in views(case)):
        return
    numbers = [number] if (number := lines.process_in(said[-1].text)) else []
    first = next((p for p in case.host.processes if p.process in numbers and p.service != case.node.name), None)
    others = [s.service for s in case.host.license_servers if s.service != case.node.name]
    who = (first.service or f"process {first.process}") if first is not None else next(iter(others), "another process")
    evidence = [case.quoted(said[-1], SAID)]
    if first is not None:
        evidence.append(
            case.seen(
                f"process {first.process} runs{f', of {first.service}' if first.service else ''}",
                "processes",
                bears=SAID,
            )
        )
    yield Finding(
        says=f"{case.node.name} is a second license server: {who} serves already.",
        evidence=tuple(evidence),
        mends=(
            Mend(
                f"Keep one of the two: leave {who} running and keep {case.node.name} from starting, or stop {who} first."
            ),
        ),
        holder=who,
        explains=("lock-held", "port-held", "stale-lock", *ENDS),
    )


@cause("license-port-not-fixed", Boot.STAYS, states=("running",), when=When.LICENSED)
def license_port_not_fixed(case: Case) -> Iterator[Finding]:
    """A license daemon takes any free port, and a firewall between needs a fixed one.

    Looks at: the daemon's port in the file; from which host it is needed; declared firewalls.
    Convinced by: a client on another host that was not served, behind a firewall that passes only what it is told of.
    Against: a fixed port; a client on the same host.
    Mend: give the daemon a fixed port in the file (it is not signed), and open that one.
    """
    for view in views(case):
        above = case.needed_from
        if view.file is None or above is None or above.host == case.node.host or not view.denied:
            continue
        walls = [f for f in (*case.graph.document.firewalls, *case.host.firewalls) if not f.passes_by_default]
        free = [d for d in view.file.daemons if d.port is None]
        if not walls or not free:
            continue
        yield Finding(
            says=f"The license daemon {free[0].name} takes any free port, and {walls[0].name} lets only named ones through.",
            evidence=(
                read(view, f"daemon {free[0].name}: any free port", SAID),
                case.seen(f"{walls[0].name} passes nothing but what a rule names", "firewall", bears=SAID),
            ),
            mends=(
                Mend(
                    f"Give the daemon {free[0].name} a fixed port in {view.file.path} (it is not signed), and open that one.",
                    AFTER_RESTART,
                ),
            ),
            holder=free[0].name,
            explains=("port-not-fixed", "path-blocked"),
        )
