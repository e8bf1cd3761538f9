"""The last records of a unit from the systemd journal.

Whoever may write to the journal chooses the fields of his record, but for those whose names begin with an underscore: these the
journal itself adds, from what the kernel says of the writer (systemd.journal-fields(7), "Trusted Journal Fields"). What a record
says of itself (its unit, its identifier, its kind of message) is believed only where those bear it out.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from typing import NamedTuple

from hollow_chain.facts.host import Event, Trust
from hollow_chain.facts.runs import LastRun
from hollow_chain.families.messages import EXITED, FAILED, SKIPPED, STARTED, STARTING, STOPPED, STOPPING, SUCCESS
from hollow_chain.families.steps import STEP_NAMES
from hollow_chain.lazy import pattern
from hollow_chain.reach.interfaces import Each, Entry, Match, Records, in_turn
from hollow_chain.wording.secrets import mask_text
from hollow_chain.wording.structured import spoken

MAX_TEXT = 1000
"""Characters of a record that are kept, as in logs that are read from files."""
_MAX_NAME = 64
"""Characters of the name that a writer gives itself: a program's own has at most fifteen."""
_LEVELS = ("emergency", "alert", "critical", "error", "warning", "notice", "info", "debug")
_FIELDS = (
    "MESSAGE", "PRIORITY", "_PID", "_UID", "MESSAGE_ID", "SYSLOG_IDENTIFIER", "CONFIG_FILE", "CONFIG_LINE", "ERRNO", "_COMM",
    "_EXE", "_SYSTEMD_UNIT", "_TRANSPORT", "JOB_TYPE", "_SYSTEMD_INVOCATION_ID",
)  # fmt: skip
_RUN = "_SYSTEMD_INVOCATION_ID"
"""The field by which the journal tells one run of a unit from another."""
_HEAD = 40
"""Records at the head of a long run that are read: banner, first steps, and the complaint that is followed by a dump."""
_OF_RECORD = ("UNIT", "MESSAGE_ID", "_BOOT_ID", "JOB_RESULT")
_OF_MANAGER = {"_PID": "1", "_UID": "0"}
_UNIT_FIELDS: tuple[tuple[str, dict[str, str]], ...] = (
    ("_SYSTEMD_UNIT", {}),
    ("UNIT", _OF_MANAGER),
    ("OBJECT_SYSTEMD_UNIT", {"_UID": "0"}),
)
"""The unit's own output, what the manager says of it, and what root's other programs say of it, with the fields that have to bear
that out: anybody may write ``UNIT=``, and with enough of it push all other records out of sight."""
_MANAGERS = (
    "/usr/lib/systemd/systemd",
    "/lib/systemd/systemd",
    "/usr/lib/systemd/systemd-executor",
    "/lib/systemd/systemd-executor",
)
"""What runs between the manager's fork for a unit and the unit's own program, already inside of the unit."""


class ManagerRecord(NamedTuple):
    """What the manager recorded about a unit: when, which one, which kind of message, in which boot."""

    at: datetime
    unit: str
    code: str
    boot: str
    result: str = ""
    """What a job came to."""


class Journal:
    """What is asked of the journal of a host."""

    def __init__(self, records: Records) -> None:
        self._records = records

    def last(self, unit: str, most: int = 40, boot: str = "") -> list[Event]:
        """Up to *most* records about *unit*, oldest first; only those of *boot* (its ID in hex) where given."""
        of_boot = {"_BOOT_ID": [boot]} if boot else {}
        found = self._records.entries(_about(unit, boot), _FIELDS, most)
        return [event_of(entry.fields, unit, entry.at) for entry in [*self._head(found, unit, most, of_boot), *found]]

    def _head(self, found: Sequence[Entry], unit: str, most: int, of_boot: dict[str, list[str]]) -> list[Entry]:
        """The first records of a run that says more than is read of it, and the manager's own of that time: a program that is at fault
        names the reason first, and prints what it was at after that."""
        run = found[0].fields.get(_RUN, "") if len(found) == most else ""
        if not run or not any(entry.fields.get(_RUN) == run for entry in found[most // 2 :]):
            return []
        head = self._records.entries([{_RUN: [run]}], _FIELDS, _HEAD, from_head=True)
        by_manager = [{"UNIT": [unit]} | _borne_out(_OF_MANAGER) | of_boot]
        head += self._records.entries(by_manager, _FIELDS, _HEAD)
        known = {(entry.at, entry.fields["MESSAGE"]) for entry in found}
        more = {(entry.at, entry.fields["MESSAGE"]): entry for entry in head if entry.at < found[0].at}
        return [more[key] for key in sorted(more) if key not in known]

    def about_files(self, unit: str, files: Iterable[str], boot: str, most: int = 5) -> list[Event]:
        """What the manager said of *files* of the definition of *unit* in this boot, oldest first."""
        about = {"UNIT": [unit], "_BOOT_ID": [boot], "CONFIG_FILE": list(files)}
        return self._events(unit, [about | _borne_out(_OF_MANAGER)], most)

    def _events(self, unit: str, fits: Sequence[Match], most: int) -> list[Event]:
        return [event_of(entry.fields, unit, entry.at) for entry in self._records.entries(fits, _FIELDS, most)]

    def beside(self, unit: str, names: list[str], boot: str, most: int = 20) -> list[Event]:
        """Up to *most* records, oldest first, whose writer calls itself one of *names* and runs in no service: what a start script hands
        over to another account runs in a session of that one, and its words are recorded there."""
        fits = {"SYSLOG_IDENTIFIER": names, "_BOOT_ID": [boot]}
        found = self._records.entries([fits], _FIELDS, most)
        return [
            event_of(one.fields, unit, one.at) for one in found if not one.fields["_SYSTEMD_UNIT"].endswith(".service")
        ]

    def of_kernel(self, boot: str, most: int) -> list[Entry]:
        """The last *most* records of the kernel in this boot, those of its audit included, oldest first."""
        fits: list[Match] = [{"_TRANSPORT": [way], "_BOOT_ID": [boot]} for way in ("kernel", "audit")]
        return list(self._records.entries(fits, _FIELDS, most))

    def told(self, fields: dict[str, tuple[str, ...]], most: int, from_head: bool = False) -> list[ManagerRecord]:
        """Up to *most* records of the manager in which each of *fields* has one of its values, oldest first; the newest ones,
        unless *from_head*."""
        fits: Match = {**fields, **(_borne_out(_OF_MANAGER) if "MESSAGE_ID" in fields else {})}
        found = self._records.entries([fits], _OF_RECORD, most, from_head)
        return [ManagerRecord(one.at, *(one.fields[name] for name in _OF_RECORD)) for one in found]

    def of_units(self, units: Iterable[str], most: int, boot: str, each: Each = in_turn) -> list[Event]:
        """The last records of each of *units*."""
        wanted = list(units)
        self._records.expect([match for unit in wanted for match in _about(unit, boot)])
        return [event for events in each(lambda unit: self.last(unit, most, boot), wanted) for event in events]


def _about(unit: str, boot: str) -> list[Match]:
    """Records about *unit*; only those of *boot* where given."""
    of_boot = {"_BOOT_ID": [boot]} if boot else {}
    return [{field: [unit]} | _borne_out(trusted) | of_boot for field, trusted in _UNIT_FIELDS]


def _borne_out(trusted: dict[str, str]) -> dict[str, list[str]]:
    return {field: [value] for field, value in trusted.items()}


def event_of(fields: dict[str, str], unit: str, at: datetime) -> Event:
    """A record about *unit* from its fields, as far as its trusted ones bear out the others."""
    trust = trust_of(fields, unit)
    by_manager = is_of_manager(fields, unit)
    level = fields.get("PRIORITY", "")
    told = fields if trust == "trusted" else {}
    said = spoken(fields.get("MESSAGE", ""), MAX_TEXT)
    return Event(
        at=at,
        text=said.text,
        service=unit,
        source=f"journal ({'systemd' if by_manager else _writer(fields)})",
        by_manager=by_manager,
        # What a program writes of itself outweighs the level that its whole output is recorded with.
        level=said.level or (_LEVELS[int(level)] if level in tuple("01234567") else ""),
        number=_number(told.get("ERRNO", "")),
        code=_code(told) if is_manager(fields) else "",
        process=_number(fields.get("_PID", "")) or 0,
        file=told.get("CONFIG_FILE", "") if is_manager(fields) else "",
        line=_number(told.get("CONFIG_LINE", "")) if is_manager(fields) else None,
        trust=trust,
    )


def _code(fields: dict[str, str]) -> str:
    """The kind of message; none of a stop that is the first half of a restart, which nobody has asked for by itself."""
    code = fields.get("MESSAGE_ID", "")
    return "" if code == STOPPED and fields.get("JOB_TYPE") == "restart" else code


def is_manager(fields: dict[str, str]) -> bool:
    """Whether the manager's own process wrote the record."""
    return all(fields.get(name) == value for name, value in _OF_MANAGER.items())


def is_of_manager(fields: dict[str, str], unit: str) -> bool:
    """Whether the record is in the manager's words: its own process wrote it, or one that it had forked for *unit* and that had
    not become the unit's program yet (it tells which step failed, and may have changed to the unit's account by then)."""
    forked = fields.get("_EXE") in _MANAGERS and fields.get("_SYSTEMD_UNIT") == unit
    return is_manager(fields) or (forked and fields.get("SYSLOG_IDENTIFIER") == "systemd")


def trust_of(fields: dict[str, str], unit: str) -> Trust:
    """Who could have written a record about *unit*, by the fields that only the journal itself sets."""
    if is_manager(fields) or fields.get("_TRANSPORT") == "kernel" or fields.get("_UID") == "0":
        return "trusted"
    return "own" if fields.get("_SYSTEMD_UNIT") == unit else "told"


def _writer(fields: dict[str, str]) -> str:
    """The name of who wrote a record, never that of the manager: that one is not for others to take."""
    names = (mask_text(fields.get(name, "")[:_MAX_NAME]) for name in ("SYSLOG_IDENTIFIER", "_COMM"))
    return (
        next((name for name in names if name and name != "systemd"), "") or f"process {fields.get('_PID') or 'unknown'}"
    )


def _number(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and len(text) < 19 else None


_HOW = pattern(r"code=(exited|killed|dumped), status=(\d+)")
EXEC_CONDITION = "exec-condition"
"""Result of a start that a condition which is a command passed over (systemd.service(5), ``ExecCondition=``)."""
_AT_ONCE = timedelta(seconds=1)
"""The two records of a start that was passed over are written one after the other."""
_STEP = pattern(r"at step ([A-Z_]{1,40}) spawning")
_RESULT = pattern(r"with result '([a-z-]+)'")


def recalled(events: list[Event]) -> LastRun | None:
    """The last run of a unit as the manager's records tell it, for units that the manager itself has forgotten."""
    last: LastRun | None = None
    for event in events:
        if event.code == STARTED and _was_passed_over(last, event):
            continue  # the end of a start that was passed over, in the words of one that was made
        if event.code in (STARTING, STARTED):
            if last is None or last.ended_at is not None or event.code == STARTING:
                last = LastRun(started_at=event.at)
            if event.code == STARTED:
                last.up_at = event.at
        elif last is not None:
            _recall_end(last, event)
    return last


def _was_passed_over(last: LastRun | None, event: Event) -> bool:
    """Whether a start had just been passed over, or was over without anything left, when a record said that one was made."""
    ended = last.ended_at if last is not None and last.up_at is None else None
    return ended is not None and event.at - ended < _AT_ONCE


def complete(last: LastRun, events: list[Event]) -> None:
    """Add to a last run what only the records tell: with what the first process of a program ended that goes to the background, which
    the manager does not keep as that of the main one."""
    told = [e for e in events if e.code == EXITED]
    how = _HOW.search(told[-1].text) if told else None
    if how is None or last.exit_status is not None or last.signal is not None:
        return
    if how[1] == "exited":
        last.exit_status = int(how[2])
    else:
        last.signal = int(how[2])


def judge_by_try_before(last: LastRun, events: list[Event]) -> None:
    """Give the run of a service that the manager is starting again the result of the try before, which it keeps no longer."""
    told = [e for e in events if e.code in (STOPPING, FAILED)]
    before = recalled([e for e in events if e.at <= told[-1].at]) if told and told[-1].code == FAILED else None
    if before is not None:
        last.result, last.exit_status, last.signal = before.result, before.exit_status, before.signal


def failed_before(events: list[Event]) -> int:
    """How many starts in a row failed before the one that is under way: what starts a service on an event starts it again after each
    of its failures, and the manager does not count these. One that was called off did not fail."""
    told = _told_of_starts(events)
    count = 0
    while told[-1:] == [STARTING] and FAILED in told[-3:-1]:
        told = (
            told[: max(i for i, code in enumerate(told[:-1]) if code == STARTING) + 1] if STARTING in told[:-1] else []
        )
        count += 1
    return count


def well_before(events: list[Event]) -> float | None:
    """For how many seconds the run before the present one was up, where it ended without an error; None where the records do not tell."""
    told = [e for e in events if e.code in (STARTED, SUCCESS, FAILED, STOPPING)][-3:]
    if [e.code for e in told] != [STARTED, SUCCESS, STARTED]:
        return None
    return (told[1].at - told[0].at).total_seconds()


def _told_of_starts(events: list[Event]) -> list[str]:
    """The kinds of the records about starts, without the failures of those that were stopped on the way: by the signal that stops, and with
    that a stop came to its end."""
    told: list[Event] = []
    ended_by = ""
    for event in events:
        if event.code == EXITED:
            ended_by = how[2] if (how := _HOW.search(event.text)) and how[1] == "killed" else ""
        elif told and told[-1].code == FAILED and ended_by == _STOPS and _stops_at_once(event, told[-1]):
            told.pop()
        if event.code in (STARTING, STARTED, FAILED, STOPPED):
            told.append(event)
    return [event.code for event in told]


def _stops_at_once(event: Event, failed: Event) -> bool:
    """Whether a stop came to its end with that failure, or the stop half of a restart, which bears no code here."""
    stops = event.code == STOPPED or (event.by_manager and not event.code and event.text.startswith("Stopped "))
    return stops and event.at - failed.at < _AT_ONCE


_STOPS = "15"
"""The signal by which a service is stopped, where its definition names no other (systemd.kill(5), ``KillSignal=``)."""


def _recall_end(last: LastRun, event: Event) -> None:
    how = _HOW.search(event.text)
    if event.code == EXITED and how:
        if how[1] == "exited":
            last.exit_status = int(how[2])
        else:
            last.signal = int(how[2])
    elif event.code == SKIPPED:
        last.result, last.ended_at = EXEC_CONDITION, last.ended_at or event.at
    elif event.by_manager and (step := _STEP.search(event.text)):
        last.exit_status = STEP_NAMES.get(step[1], last.exit_status)
    elif event.code in (SUCCESS, FAILED, STOPPED):
        result = _RESULT.search(event.text)
        last.result = result[1] if result else last.result or "success"
        last.ended_at = last.ended_at or event.at
        last.left_up_at = last.left_up_at or (event.at if last.up_at else None)
