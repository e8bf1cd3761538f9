"""License files and servers for a person, and as JSON documents."""

from __future__ import annotations

from typing import Any

from hollow_chain.facts.host import Host
from hollow_chain.license.asking import Told
from hollow_chain.license.check import Checked, title
from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page
from hollow_chain.show.signs import ASIDE, CAUTION, HOLLOW, SOLID, WEAK
from hollow_chain.wording.counts import counted

Answers = list[tuple[str, bool, str]]


def show_check(page: Page, checked: Checked, machine: Host) -> None:
    """Write every problem with its place and who can mend it, and what holds."""
    wrong = [p for p in checked.problems if not p.warning]
    page.line(
        (clean(checked.path, 200), "bold"), (f"  for {clean(machine.name, 80)}, digest {checked.digest[:16]}", "dim")
    )
    for problem in checked.problems:
        sign = WEAK if problem.warning else HOLLOW
        where = f"{problem.place.line}:{problem.place.column}" if problem.place.line else "-"
        page.line(
            (f"{page.sign(sign)} ", sign.style), (f"{where:<8}", "dim"), ("note: " if problem.warning else "", CAUTION),
            clean(problem.says, 400), (f"  [{problem.mend}]", ASIDE), indent=1, hang=10,
        )  # fmt: skip
    for entitlement in checked.entitlements:
        until = f", until {entitlement['until']}" if entitlement.get("until") else ""
        page.line(
            (f"{page.sign(SOLID)} ", SOLID.style),
            f"{clean(title(entitlement), 120)}: {counted(entitlement['seats'], 'seat')}{until}",
            indent=1,
        )
    page.gap()
    words = (
        f"{len(wrong)} wrong, {len(checked.problems) - len(wrong)} noted, {len(checked.entitlements)} entitlements hold"
    )
    page.line((words, "bold red" if wrong else "bold"))


def check_document(checked: Checked, machine: Host) -> dict[str, Any]:
    """``hollow-chain/license-check``, version 1."""
    return {
        "format": "hollow-chain/license-check", "version": 1, "file": checked.path, "host": machine.name,
        "digest": checked.digest, "right": checked.right,
        "problems": [
            {"problem": p.name, "line": p.place.line, "column": p.place.column, "says": p.says, "mend": p.mend, "warning": p.warning,
             "cause": p.cause or None}
            for p in checked.problems
        ],
        "entitlements": [title(e) for e in checked.entitlements],
    }  # fmt: skip


def show_told(page: Page, told: Told, answers: Answers) -> None:
    """Write what a server told."""
    status = told.status
    page.line((f"{clean(told.host, 80)}:{told.port}", "bold"), f"  answers; host {clean(str(status.get('host')), 80)}")
    about = [clean(str(status.get(key)), 200) for key in ("file", "read_at", "digest")]
    page.line(f"serves {about[0]}, read {about[1]}, digest {about[2][:16]}", indent=1)
    for daemon in told.daemons:
        name = str(daemon.get("name"))
        up = daemon.get("up") and name not in told.silent
        sign = SOLID if up else HOLLOW
        how = f"up on port {daemon.get('port')}" if up else f"NOT UP: {told.silent.get(name) or daemon.get('says')}"
        page.line(
            (f"{page.sign(sign)} ", sign.style), (clean(name, 80), "bold"), f"  {clean(how, 300)}", indent=1, hang=2
        )
        for entitlement in (e for e in told.entitlements if e.get("daemon") == name):
            until = f", until {entitlement.get('until')}" if entitlement.get("until") else ""
            seats = (
                f"{entitlement.get('used')} of {entitlement.get('seats')} seats used, {entitlement.get('free')} free"
            )
            page.line(clean(f"{title(entitlement)}: {seats}{until}", 300), indent=5)
    for _, can, says in answers:
        sign = SOLID if can else HOLLOW
        page.line((f"{page.sign(sign)} ", sign.style), clean(says, 400), indent=1, hang=2)


def told_document(told: Told, answers: Answers) -> dict[str, Any]:
    """``hollow-chain/license-server``, version 1."""
    status = told.status
    return {
        "format": "hollow-chain/license-server", "version": 1, "answers": True, "server": {"host": told.host, "port": told.port},
        **{key: status.get(key) for key in ("host", "file", "digest", "read_at")},
        "daemons": [{**d, "answers": bool(d.get("up")) and d.get("name") not in told.silent} for d in told.daemons],
        "entitlements": told.entitlements,
        "wants": [{"want": want, "can": can, "says": says} for want, can, says in answers],
    }  # fmt: skip


def silent_document(why: str) -> dict[str, Any]:
    """``hollow-chain/license-server``, version 1, of a server that does not answer."""
    return {"format": "hollow-chain/license-server", "version": 1, "answers": False, "says": why}
