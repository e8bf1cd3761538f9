"""Rehearsals as pages."""

from __future__ import annotations

from hollow_chain.boot.rehearsal import Odds, Rehearsal
from hollow_chain.show.rehearsal import SURE, interesting, percent, seconds, why
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.wording.counts import counted

_CHANGES = {
    "lost": ("Will be down after a reboot, runs now", "unwell"),
    "returns": ("Will be up after a reboot, down now", "well"),
}


def rehearsal_sheet(result: Rehearsal, only: list[str] | None = None) -> Sheet:
    """The page about what the next boot brings."""
    shown = [o for o in interesting(result) if only is None or o.service in only]
    unsure = [o for o in shown if o.up < SURE and not o.passed_over]
    mine = [o for o in result.services if only is None or o.service in only]
    lost = [o for o in mine if o.change == "lost"]
    sheet = Sheet(f"The next boot of {result.host}, rehearsed", _lead(len(unsure), len(lost)), result.host)
    sheet.about.append(SheetLine(counted(result.runs, "simulated boot"), "rehearsed"))
    low, middle, high = result.done
    sheet.about.append(
        SheetLine(f"after {seconds(middle)} (in 9 of 10 boots {seconds(low)} to {seconds(high)})", "all is up")
    )
    for kind, (title, tone) in _CHANGES.items():
        sheet.add(title, [SheetLine(why(o), o.service, tone=tone) for o in mine if o.change == kind])
    sheet.add("Not surely up", [_row(o) for o in unsure])
    sheet.add("When each is up", [_row(o) for o in shown], folded=bool(unsure))
    links = [SheetLine(f"takes {seconds(link.seconds)}", link.service) for link in result.slowest_chain]
    sheet.add("What the boot waits for longest", links if only is None else [])
    sheet.add("Notes", [SheetLine(note) for note in result.notes])
    return sheet


def _lead(unsure: int, lost: int) -> str:
    if not unsure and not lost:
        return "All that starts at boot comes up."
    parts = [f"{counted(unsure, 'service')} not surely up after the next boot"] if unsure else []
    parts += (
        [f"{counted(lost, 'service')} that {'runs' if lost == 1 else 'run'} now will be down after it"] if lost else []
    )
    return f"{'; '.join(parts)}."


def _row(odds: Odds) -> SheetLine:
    sure = odds.up >= SURE
    reasons = why(odds)
    text = (
        f"up in {percent(odds.up)} of the boots, mostly after {seconds(odds.p50)}"
        if odds.p50 is not None
        else "never up"
    )
    return SheetLine(text, odds.service, reasons, "well" if sure else "unwell")
