"""A rehearsal for a person: what the next boot changes, who is not surely up, what the boot waits for."""

from __future__ import annotations

from hollow_chain.boot.durations import AT_ONCE
from hollow_chain.boot.rehearsal import ChainLink, Odds, Rehearsal
from hollow_chain.families.base_system import is_base_name
from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page
from hollow_chain.show.signs import CAUTION, HOLLOW, RESTING, SOLID, WEAK, Sign
from hollow_chain.wording.counts import counted

SURE = 0.995
"""From this share on a service counts as surely up: in a thousand runs, five or fewer that failed are within chance."""
MOST_ROWS = 30
_NAME = 30
_MOST_LISTED = 12
_FIGURES, _NARROWEST = 52, 12
"""Characters of the figures of a row with their gaps, and of the shortest scale that shows anything."""
_MUCH_LATER = 2.5
"""Times as late as the one before it: from there on it would squeeze all others into less than half of the scale."""
_SAVES = 0.05
"""Seconds by which a boot has to be shorter without a link for that to be said."""
_SHOWN = 0.005
"""Seconds below which a start reads 0.00 s: not worth a place in a chain."""
"""Rows of the table, characters of a name in it, and entries of a list: what a screen of 80 by 40 holds."""


def seconds(value: float | None) -> str:
    """Seconds as one says them."""
    if value is None:
        return "-"
    if value < 100:
        return f"{value:.2f} s" if value < 10 else f"{value:.1f} s"
    minutes, rest = divmod(round(value), 60)
    return f"{minutes} min {rest:02} s" if minutes < 100 else f"{minutes / 60:.1f} h"


def percent(share: float) -> str:
    """A share as a percentage that does not claim certainty where there is none."""
    if 0 < share < 0.001:
        return "<0.1%"
    if 0.999 < share < 1:
        return ">99.9%"
    return f"{share:.0%}" if share in (0.0, 1.0) else f"{share:.1%}"


def interesting(rehearsal: Rehearsal, most: int = MOST_ROWS) -> list[Odds]:
    """The services worth a row of their own: not surely up, changed, on the slowest chain; then the slowest to come up."""
    chain = {link.service for link in rehearsal.slowest_chain}
    shown = [o for o in rehearsal.services if o.starts and o.kind not in ("remote", "absent", *AT_ONCE)]

    def rank(odds: Odds) -> tuple[int, float]:
        unsure = odds.up < SURE and not odds.passed_over
        return (0 if unsure or odds.change else 1 if odds.service in chain else 2, -(odds.p50 or 0.0))

    kept = sorted(shown, key=rank)[:most]
    return sorted(kept, key=lambda o: (o.p50 if o.p50 is not None else float("inf"), o.service))


def why(odds: Odds) -> str:
    """Why a service is not up in all runs: the causes, with the share of the boots where it is not all of them, how sure we are of
    each that is a diagnosis, and whose fault it is."""
    sure = {one.cause: one.sure for one in reversed(odds.rests_on)}
    never = odds.starts and odds.failed == 1.0
    parts = []
    told = [one for one in odds.why_not.items() if not never or one[1] >= 1 - SURE] or list(odds.why_not.items())
    for cause, share in told[:3]:
        part = cause if share >= SURE else f"{cause} {percent(share)}"
        if cause in sure:
            part = f"{sure[cause]:.0%} sure: {part}" if never else f"{part} ({sure[cause]:.0%} sure)"
        parts.append(part)
    blame = next((name for name, share in odds.blame.items() if 2 * share >= sum(odds.why_not.values())), "")
    words = ", ".join(parts) + (f", at {blame}" if blame else "")
    return clean(f"will not come up ({words})" if never else words, 160)


def show_rehearsal(page: Page, rehearsal: Rehearsal, everything: bool, only: list[str] | None) -> None:
    """Write the whole rehearsal, or the rows of *only* some services."""
    low, middle, high = rehearsal.done
    page.line(
        (clean(rehearsal.host, 80), "bold"),
        f": the next boot, rehearsed {counted(rehearsal.runs, 'time')} (seed {rehearsal.seed})",
    )
    if rehearsal.runs < rehearsal.asked:
        page.line((f"Interrupted: {rehearsal.runs:,} of {counted(rehearsal.asked, 'boot')}.", CAUTION))
    page.line(
        f"All that starts with it is up after {seconds(middle)} (in 9 of 10 boots {seconds(low)} to {seconds(high)})."
    )
    if only is not None:
        rows = [o for o in rehearsal.services if o.service in only]
        _rows(page, rows, _end(rows, high))
        return
    _changes(page, rehearsal)
    rows = rehearsal.services if everything else interesting(rehearsal)
    table = [o for o in rows if o.kind not in ("remote", "absent")]
    table.sort(
        key=lambda odds: odds.up >= SURE or not odds.starts or odds.passed_over > 0.5
    )  # trouble first, then by moment
    _rows(page, table, _end(rows, high))
    _folded(page, rehearsal, rows)
    show_chain(page, rehearsal)
    _races(page, rehearsal)
    _falls(page, rehearsal)
    for note in rehearsal.notes:
        page.line((f"note: {clean(note, 400)}", CAUTION), hang=6)
    page.legend()


def _end(rows: list[Odds], high: float) -> float:
    """Where the scale of moments ends."""
    return scale_of([high, *(odds.p95 for odds in rows if odds.p95 is not None)])


def scale_of(moments: list[float]) -> float:
    """Where a scale ends that shows most of *moments* well: a few that come much later than all others lie beyond it."""
    ranked = sorted(moments)
    fewest = max(1, -(-len(ranked) * 3 // 4))
    for at in range(len(ranked) - 1, fewest - 1, -1):
        if ranked[at] > _MUCH_LATER * ranked[at - 1] > 0:
            return ranked[at - 1]
    return ranked[-1] if ranked else 0.0


def _changes(page: Page, rehearsal: Rehearsal) -> None:
    for kind, title in (
        ("lost", "Will be down after a reboot, runs now"),
        ("returns", "Will be up after a reboot, down now"),
    ):
        found = [odds for odds in rehearsal.services if odds.change == kind]
        if not found:
            continue
        page.heading(title)
        sign = HOLLOW if kind == "lost" else SOLID
        for odds in found[:_MOST_LISTED]:
            about = why(odds) if kind == "lost" else f"up in {percent(odds.up_in_the_end)} of the boots"
            page.line(
                (f"{page.sign(sign)} ", sign.style), f"{clean(odds.service, 60):<{_NAME}} {about}", indent=1, hang=4
            )
        if len(found) > _MOST_LISTED:
            page.line(f"and {len(found) - _MOST_LISTED} more", indent=3)


def _sign(odds: Odds) -> Sign:
    if not odds.starts or odds.passed_over > 0.5:
        return RESTING
    return SOLID if odds.up >= SURE else HOLLOW if odds.up_in_the_end < 0.5 else WEAK


def _rows(page: Page, rows: list[Odds], end: float) -> None:
    page.gap()
    room = min(page.width - _NAME - _FIGURES, 60)
    if room < _NARROWEST:
        room = 0  # figures alone, and what is left for the name
    wide = _NAME if room else max(12, page.width - _FIGURES + 2)
    head = f"{'':2}{'service':<{wide}} {'up':>7} {'late':>6} {'failed':>7} {'median':>10} {'95%':>10}"
    page.line((head + (f"  0 s {'to ' + seconds(end):>{room - 4}}" if room else ""), "bold"))
    for odds in rows:
        sign = _sign(odds)
        figures = f"{percent(odds.up):>7} {percent(odds.late) if odds.late else '-':>6} {percent(odds.failed) if odds.failed else '-':>7}"
        if not odds.starts:
            figures = f"{'not started':>22}"
        moments = f"{seconds(odds.p50):>10} {seconds(odds.p95):>10}"
        page.line(
            (f"{page.sign(sign)} ", sign.style),
            f"{_short(odds.service, wide):<{wide}} {figures} {moments}",
            ("  " + _strip(page, odds, end, room) if room else "", sign.style),
        )
        reason = why(odds)
        if reason and odds.up_in_the_end < SURE:
            page.line((reason, CAUTION), indent=4, hang=2)


def _short(name: str, most: int) -> str:
    name = clean(name, 200)
    return name if len(name) <= most else name[: most - 1] + "~"


def _strip(page: Page, odds: Odds, end: float, room: int) -> str:
    """From where its start begins to where it is up in half of the boots, and on to 95 of 100."""
    if odds.p50 is None or odds.p95 is None or end <= 0:
        return ""
    doing, spread, mark = ("━", "─", "◆") if page.rich_signs else ("=", "-", "|")
    beyond = "▸" if page.rich_signs else ">"

    def cell(moment: float) -> int:
        return min(room - 1, max(0, round(moment / end * (room - 1))))

    if odds.p50 > end:
        return f"{'later':>{room - 2}} {beyond}"
    begun, middle, late = cell(odds.begun or 0.0), cell(odds.p50), cell(odds.p95)
    begun = min(begun, middle)
    return " " * begun + doing * (middle - begun) + mark + spread * (late - middle)


def _folded(page: Page, rehearsal: Rehearsal, shown: list[Odds]) -> None:
    names = {odds.service for odds in shown}
    rest = [o for o in rehearsal.services if o.service not in names and o.starts and o.kind not in ("remote", "absent")]
    quiet = sum(1 for o in rehearsal.services if not o.starts and o.kind not in ("remote", "absent"))
    if rest:
        latest = max((o.p95 or 0.0 for o in rest), default=0.0)
        page.line((f"and {len(rest)} more that the boot starts, all up by {seconds(latest)} (95%)", "dim"), indent=2)
    if quiet:
        page.line((f"and {quiet} that it does not start", "dim"), indent=2)


def show_chain(page: Page, rehearsal: Rehearsal) -> None:
    """Write the chain that comes up last: what takes time in it by name, the rest by its number."""
    chain = rehearsal.slowest_chain
    page.heading(f"Slowest chain (the last to come up in {percent(rehearsal.chain_share)} of the boots)")
    links = [link for link in chain if link.saves is not None and link.saves >= _SAVES] or chain[-1:]
    for link in links:
        saves = link.saves is not None and link.saves >= _SAVES
        saved = f"; without it the boot is {seconds(link.saves)} shorter" if saves else ""
        page.line(f"{clean(link.service, 80)}: takes {seconds(link.seconds)}{saved}", indent=2, hang=4)
    told = [link for link in chain if not _only_passes(link)] or chain[-1:]
    if len(chain) > len(links) and len(told) > 1:
        rest = len(chain) - len(told)
        passed = f" (with {rest} between them that take no time)" if rest else ""
        page.line((f"{' > '.join(clean(link.service, 60) for link in told)}{passed}", "dim"), indent=2, hang=4)


def _only_passes(link: ChainLink) -> bool:
    """Whether a link of the chain is of no weight: it takes no time of its own, or is of the base system and takes little."""
    base = is_base_name(link.service.rpartition(".")[2], link.service)
    return link.seconds < (_SAVES if base else _SHOWN)


def _races(page: Page, rehearsal: Rehearsal) -> None:
    races = [
        race for race in rehearsal.races if not (race.one_wins > SURE or race.other_wins > SURE)
    ] or rehearsal.races
    if not races:
        return
    page.heading("Races")
    for race in races[:_MOST_LISTED]:
        page.line(
            f"{clean(race.what, 100)}: {clean(race.one, 60)} first in {percent(race.one_wins)} of the boots, "
            f"{clean(race.other, 60)} in {percent(race.other_wins)}",
            indent=2,
            hang=4,
        )
    if len(races) > _MOST_LISTED:
        page.line(f"and {len(races) - _MOST_LISTED} more", indent=2)


def _falls(page: Page, rehearsal: Rehearsal) -> None:
    falls = [fall for fall in rehearsal.falls if fall[2]]
    if not falls:
        return
    page.heading("Goes down with it")
    for root, share, group in falls[:_MOST_LISTED]:
        names = ", ".join(clean(name, 60) for name, _ in group[:6])
        more = f" and {len(group) - 6} more" if len(group) > 6 else ""
        page.line(f"{clean(root, 60)} (not up in {percent(share)} of the boots): {names}{more}", indent=2, hang=4)
