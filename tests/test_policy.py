"""Calls that a policy of the host refused: the kernel's records, tied to the service whose process they are about."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from hollow_chain.facts.host import Host
from hollow_chain.facts.runs import LastRun
from hollow_chain.facts.service import Program, Service
from hollow_chain.reach.interfaces import Entry, Match
from hollow_chain.sources.systemd import records
from hollow_chain.sources.systemd.journal import Journal
from hollow_chain.wording.policy import PolicyDenial, denial_in

BEGUN = datetime(2026, 3, 4, 5, tzinfo=UTC)
OPENED = (
    'audit: type=1400 audit(1772600401.1:88): apparmor="DENIED" operation="open" class="file" profile="/usr/sbin/a" '
    'name="/srv/a/db" pid=312 comm="a" requested_mask="r" denied_mask="r" fsuid=0 ouid=0'
)
BOUND = (
    'avc:  denied  { name_bind } for  pid=312 comm="a" src=8081 scontext=system_u:system_r:a_t:s0 '
    "tcontext=system_u:object_r:port_t:s0 tclass=tcp_socket permissive=0"
)


@pytest.mark.parametrize(
    ("text", "denial"),
    [
        (OPENED, PolicyDenial("AppArmor", "/usr/sbin/a", "/srv/a/db", "r", 312, "a")),
        (BOUND, PolicyDenial("SELinux", "system_u:system_r:a_t:s0", "port 8081", "name_bind", 312, "a")),
        ('apparmor="DENIED" operation="capable" profile="a" pid=9 comm="a" capability=1  capname="dac_override"',
         PolicyDenial("AppArmor", "a", "dac_override", "capable", 9, "a")),
        (OPENED.replace("DENIED", "ALLOWED"), None),
        (BOUND.replace("permissive=0", "permissive=1"), None),
        ("a: access denied to /srv/a/db", None),
        ('apparmor="DENIED" pid=99999999999999999999', PolicyDenial("AppArmor", "", "", "", 0, "")),
    ],
)  # fmt: skip
def test_what_a_record_tells(text: str, denial: PolicyDenial | None) -> None:
    assert denial_in(text) == denial


class Kernel:
    """Records of the kernel alone."""

    def __init__(self, *said: tuple[datetime, str]) -> None:
        self.said = said

    def expect(self, fits: Sequence[Match]) -> None:
        pass

    def entries(self, fits: Sequence[Match], fields: Sequence[str], most: int, from_head: bool = False) -> list[Entry]:
        if not any("kernel" in fit.get("_TRANSPORT", ()) for fit in fits):
            return []
        return [Entry(at, {**dict.fromkeys(fields, ""), "MESSAGE": text}) for at, text in self.said]


def host(**more: Any) -> Host:
    last = LastRun(result="exit-code", exit_status=1, started_at=BEGUN, ended_at=BEGUN + timedelta(seconds=3))
    one = Service(name="a.service", state="failed", program=Program(path="/usr/sbin/a"), last=last)
    other = Service(name="b.service", state="failed", program=Program(path="/usr/sbin/b"), last=last)
    return Host(name="quay", services=[one, other], **more)


@pytest.mark.parametrize(("after", "is_of_it"), [(1, True), (3.5, True), (60, False), (-60, False)])
def test_only_what_was_refused_in_its_last_run_is_its_own(after: float, is_of_it: bool) -> None:
    built: Any = host()
    records.fill(built, Journal(Kernel((BEGUN + timedelta(seconds=after), OPENED))), ["a.service", "b.service"], "0")
    assert [(event.service, event.source, event.trust) for event in built.events] == (
        [("a.service", "kernel", "trusted")] if is_of_it else []
    )
