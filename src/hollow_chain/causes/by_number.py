"""What the number of a failed start says of its cause, by the one table of meanings that ``decode`` reads too.

A number alone is the manager's word, and no look: so it speaks for the first cause that the table names, and only where no rule has
found one of those that it stands for.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from hollow_chain.causes import meanings
from hollow_chain.causes.case import MANAGER, Case
from hollow_chain.causes.finding import FITS, HINT, PROOF, SAID, Evidence, Finding, Mend
from hollow_chain.causes.named import PROGRAM_MISSING
from hollow_chain.causes.reached import unanswered
from hollow_chain.causes.standing import failed_last
from hollow_chain.causes.words import tells_of_an_end

_NEED_FAILED = 1068
"""Control-manager error number: what it needs did not start."""
OWN_NUMBER = 1066
"""Control-manager error number: the program ended with a number of its own."""
NOBODY_LISTENS = 10061
"""Windows Sockets error number of a call that was refused, since nothing listens there."""
_NOT_ANSWERED = frozenset((NOBODY_LISTENS, 10060, 1225, 1231, 1232, 1722, 1753, 53, 233))
"""Numbers that tell of another who did not answer (winerror.h): connections, remote calls, pipes."""
_CALM_LEVELS = ("notice", "info", "debug")


def findings(case: Case, found: Sequence[Finding]) -> Iterator[Finding]:
    """The cause that the number of the last failed start speaks for; none where one of those is among what rules have *found*."""
    if not case.family.numbers_failures or not case.registered or case.standing.well or not failed_last(case.service):
        return
    for number, evidence, ran in _numbers(case):
        entry = meanings.control(number)
        if entry is None or not entry.causes or entry.of_others:
            continue
        own = [one for one in entry.causes if one not in _OF_ANOTHER]
        causes = [one for one in own if not (ran and one in _OF_THE_PROGRAM)] or own
        if (
            not causes or causes[0] in _ENDS
        ):  # it only tells how it ended, and rules of their own tell that; another number may say more
            continue
        known = [f for f in found if f.cause in entry.causes and f.cause not in _ENDS and not f.note]
        if any(not f.residual or piece.bears in (PROOF, SAID) for f in known for piece in f.evidence):
            return
        alone = unanswered(case) if number == NOBODY_LISTENS else None
        failed = f"failed with {entry.what}: {entry.within}"
        does = f"See 'hollow-chain decode {meanings.written(number)}', put that right, then start {case.service.name}."
        yield Finding(
            says=f"{case.service.name} {alone.says if alone else failed}.",
            evidence=(evidence, *((alone.evidence,) if alone else ())),
            mends=(Mend(alone.does if alone else does, seeks=True),),
            explains=tuple(_ENDS),
            # Who was not answered tells of the one that did not: where that is found below, this is only how it ended here.
            residual=number in _NOT_ANSWERED and alone is None,
            cause=causes[0],
            host=case.node.host,
            service=case.node.name,
        )
        return


_ENDS = ("exits-with-error", "exits-at-once", "unexplained", "crash-loop", "killed")
"""Causes that only say how it ended: rules of their own say that better."""


_OF_ANOTHER = ("stopped", "paused", "not-registered", "manual-not-started", "never-started")
"""How another may stand who did not answer: one that was tried and failed does not stand like that itself."""
_OF_THE_PROGRAM = (PROGRAM_MISSING, "program-not-executable")
"""Causes for which its program cannot have run: what a program that ran says is of something else."""


def _numbers(case: Case) -> Iterator[tuple[int, Evidence, bool]]:
    """Numbers of the last failed start, each with what tells of it, and whether the program itself had run by then."""
    last = case.service.last
    number = last.error_number if last is not None else None
    if last is not None and number and number != OWN_NUMBER:
        told = case.seen(f"the last start ended with error {number}", MANAGER, last.ended_at or last.started_at, SAID)
        yield number, told, _is_there(case) or any(map(tells_of_an_end, case.last_events()))
    status = last.exit_status if last is not None else None
    meant = meanings.number_of_status(status) if status is not None else None
    # A number of its own may mean anything, unless it is one that wraps a number of the system.
    if (
        last is not None
        and status is not None
        and meant is not None
        and (number != OWN_NUMBER or meant != status or meanings.is_wide(status))
    ):
        stands_for = "" if meanings.written(meant) == meanings.written(status) else f", which stands for {meant}"
        text = f"its process ended with {meanings.written(status)}{stands_for}"
        yield meant, case.seen(text, MANAGER, last.ended_at or last.started_at, FITS), True
    for event in reversed(case.last_events()):
        if event.by_manager and number == _NEED_FAILED:
            continue  # it quotes the number of that need
        for said in (*meanings.numbers_of(event), *meanings.numbers_of_system(event.text)):
            if said not in (number, OWN_NUMBER):
                ran = not event.by_manager or tells_of_an_end(event)
                yield said, case.quoted(event, FITS if number else SAID), ran
    # Many programs count their own errors from 1; where their words say more, the words count.
    if last is not None and number == OWN_NUMBER and last.exit_status and not _tells(case):
        text = f"it ended with a number of its own, {last.exit_status}, which may be meant like the system's"
        yield last.exit_status, case.seen(text, MANAGER, last.ended_at or last.started_at, HINT), True


def _is_there(case: Case) -> bool:
    """Whether somebody has looked for its program, and it is there."""
    file = case.file(case.service.program.path) if case.service.program is not None else None
    return file is not None and file.exists


def _tells(case: Case) -> bool:
    """Whether the program itself said something that may be the reason."""
    return any(not event.by_manager and event.level not in _CALM_LEVELS for event in case.own_events())
