"""A survey of many hosts, for a person and as a document."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from math import isfinite
from typing import NamedTuple

from hollow_chain.causes.words import clock
from hollow_chain.fleet.association import Counts
from hollow_chain.fleet.common_ground import Shared
from hollow_chain.fleet.factors import Factor
from hollow_chain.fleet.surveying import UNREAD, UNWELL, WELL, CauseOver, HostLine, Survey
from hollow_chain.show.clean import clean
from hollow_chain.show.documents import Document, when
from hollow_chain.show.page import Page
from hollow_chain.show.signs import CAUTION, SOLID, UNTOLD, WEAK
from hollow_chain.wording.counts import counted

_FEW = 4
"""Names of hosts that stand in a line: more are counted."""
_MOST_LINES, _MOST_CAUSES = 40, 20
"""Lines of hosts and causes on a screen: --json, --out and --all have the rest."""
_SIGNS = {WELL: SOLID, UNWELL: WEAK, UNREAD: UNTOLD}


class SurveyWish(NamedTuple):
    """What is to be seen."""

    words: str = ""
    by: str = ""
    unwell: bool = False
    everything: bool = False


def lead(survey: Survey) -> str:
    """The survey in one sentence."""
    counts = Counter(line.stands for line in survey.lines)
    parts = [f"{counts[UNWELL] or 'none'} not well"]
    parts += [f"{counts[UNREAD]} not read"] if counts[UNREAD] else []
    parts += [f"{counts[WELL]} well"] if counts[WELL] else []
    were = "was" if survey.earlier == 1 else "were"
    rest = f" ({counted(survey.earlier, 'host')} {were} not well before, and {were} left out)" if survey.earlier else ""
    return f"{counted(len(survey.lines), 'host')}: {', '.join(parts)}{rest}"


def show_survey(page: Page, survey: Survey, wish: SurveyWish) -> None:
    """Write the causes, the commonest first, and then host by host."""
    title = lead(survey) + (f", looked at for {clean(wish.words, 80)!r}" if wish.words else "")
    page.line((title, "bold"))
    if stale := survey.stale:
        names = f"{counted(len(stale), 'host')} {'was' if len(stale) == 1 else 'were'} last read more than a day before the newest"
        page.line(
            (
                f"{names}: {', '.join(_read(line) for line in stale[:_FEW])}{' ...' if len(stale) > _FEW else ''}",
                CAUTION,
            ),
            hang=2,
        )
    common = [one for one in survey.causes if len(one.hosts) + len(one.takes_along) > 1]
    for number, one in enumerate(common[:_MOST_CAUSES]):
        _show_cause(page, number + 1, one)
    if len(common) > _MOST_CAUSES:
        page.line((f"and {len(common) - _MOST_CAUSES} rarer causes: --json", "dim"), indent=2)
    _show_lone(page, [one for one in survey.causes if len(one.hosts) + len(one.takes_along) <= 1])
    if wish.by:
        _show_by(page, survey, wish.by)
    _show_at_risk(page, survey)
    _show_hosts(page, survey, wish)
    page.legend()


def _show_cause(page: Page, number: int, one: CauseOver) -> None:
    page.gap()
    along = f", takes {counted(len(one.takes_along), 'other host')} along" if one.takes_along else ""
    page.line(
        f"{number}. ",
        (f"{clean(one.cause, 60)} on {clean(one.service, 80)}", "bold"),
        f": {_named(one.hosts)}{along}",
        hang=3,
    )
    page.line(clean(one.says, 300), indent=3, hang=2)
    for shared in one.shared:
        page.line(("in common: ", "dim"), *_shared(shared), indent=3, hang=11)
    if not one.shared and one.compared and len(one.hosts) > 1:
        compared = f"the {counted(one.compared, 'well host')} that {'has' if one.compared == 1 else 'have'} it"
        page.line((f"nothing in common that {compared} would not have by chance, too", "dim"), indent=3, hang=2)


def _read(line: HostLine) -> str:
    return f"{clean(line.host, 60)} ({clock(line.read_at)})"


def _show_lone(page: Page, causes: Sequence[CauseOver]) -> None:
    if not causes:
        return
    page.heading("On one host each")
    for one in causes[:_MOST_CAUSES]:
        page.line(
            (clean(one.hosts[0], 60), "bold"),
            f": {clean(one.cause, 60)} on {clean(one.service, 80)}",
            indent=2,
            hang=2,
        )
    if len(causes) > _MOST_CAUSES:
        page.line((f"and {len(causes) - _MOST_CAUSES} more: --json", "dim"), indent=2)


def _named(hosts: Sequence[str]) -> str:
    names = ", ".join(clean(name, 60) for name in hosts[:_FEW])
    if len(hosts) == 1:
        return f"on {names}"
    return f"{counted(len(hosts), 'host')}: {names}{f' and {len(hosts) - _FEW} more' if len(hosts) > _FEW else ''}"


def _shared(shared: Shared) -> list[str | tuple[str, str]]:
    also = [factor_words(factor) for factor in shared.same[:2]]
    more = f" and {len(shared.same) - 2} more" if len(shared.same) > 2 else ""
    same = f" (the very same hosts: {'; '.join(clean(one, 120) for one in also)}{more})" if also else ""
    return [(clean(factor_words(shared.factor), 160), "bold"), same, f": {counts_words(shared)}"]


def factor_words(factor: Factor) -> str:
    """What hosts have in common, in words."""
    if factor.kind == "package":
        return f"package {factor.of} {factor.value}" if factor.value else f"package {factor.of} {factor.what}"
    if factor.kind == "place":
        return f"group {factor.of}"
    if factor.kind == "order":
        return f"{factor.of} begun before {factor.value} was up"
    if factor.of == "host":
        return f"{factor.what}{f' {factor.value}' if factor.value else ''}"
    if factor.kind in ("definition", "configuration"):
        return f"version {factor.value[:8]} of the {factor.what} of {factor.of}"
    return f"{factor.what} {factor.value}{_UNITS.get(factor.what, '')} of {factor.of}"


_UNITS = {"start limit": " s", "stop limit": " s", "memory limit": " bytes", "size of the program": " bytes"}


def counts_words(shared: Shared) -> str:
    """How many have it, and whether chance would do that."""
    counts: Counts = shared.counts
    return (
        f"{counts.sick_with} of {counts.sick} that are not well, {counts.well_with} of {counts.well} that are;"
        f" {odds_words(shared)}, by chance alone {chance_words(shared.chance)}"
    )


def chance_words(chance: float) -> str:
    """A chance as people say it."""
    if chance < _NEVER:
        return "less than once in a billion times"
    if chance > _OFTEN:
        return f"{chance * 100:.0f} times in 100"
    times = 1 / chance
    digits = 10 ** max(0, len(str(int(times))) - 2)
    return f"once in {int(times / digits) * digits:,} times"


_NEVER, _OFTEN = 1e-9, 0.02
"""Chances that nobody needs in digits, and that are said in a hundred."""


def odds_words(shared: Shared) -> str:
    """The odds ratio and its interval."""
    odds = shared.odds
    if not isfinite(odds.ratio):
        return f"odds at least {odds.low:.3g} times (95 %)"
    high = f"{odds.high:.3g}" if isfinite(odds.high) else "any"
    return f"odds {odds.ratio:.3g} times (95 %: {odds.low:.3g} to {high})"


def _show_by(page: Page, survey: Survey, by: str) -> None:
    page.heading(f"By {by}")
    for value, counts in counted_by(survey, by):
        parts = ", ".join(f"{counts[stands]} {stands}" for stands in (UNWELL, UNREAD, WELL) if counts[stands])
        page.line((clean(value, 80), "bold"), f": {parts}", indent=2, hang=4)


def counted_by(survey: Survey, by: str) -> list[tuple[str, Counter[str]]]:
    """How the hosts stand by something of theirs, the worst first; a host may count under several."""
    causes: dict[str, list[str]] = {}
    for one in survey.causes:
        for host in (*one.hosts, *one.takes_along):
            causes.setdefault(host, []).append(one.cause)
    found: dict[str, Counter[str]] = {}
    for line in survey.lines:
        of: dict[str, Sequence[str]] = {
            "group": line.groups or ("in no group",),
            "system": (line.system or "unknown",),
            "family": (line.family or "unknown",),
            "cause": tuple(dict.fromkeys(causes.get(line.host, ("no cause",)))),
            "service": line.services or ("none",),
        }
        for value in of[by]:
            found.setdefault(value, Counter())[line.stands] += 1
    return sorted(found.items(), key=lambda item: (-item[1][UNWELL], -item[1][UNREAD], item[0]))


def _show_at_risk(page: Page, survey: Survey) -> None:
    hosts: dict[str, list[str]] = {}
    for line in survey.lines:
        for service in line.at_risk:
            hosts.setdefault(service, []).append(line.host)
    if not hosts:
        return
    page.heading("Runs now, will be down after the next boot")
    ranked = sorted(hosts.items(), key=lambda item: (-len(item[1]), item[0]))
    for service, names in ranked[:_MOST_CAUSES]:
        page.line((clean(service, 80), "bold"), f": {_named(names)}", indent=2, hang=2)
    if len(ranked) > _MOST_CAUSES:
        page.line((f"and {len(ranked) - _MOST_CAUSES} more services: --json", "dim"), indent=2)


def _show_hosts(page: Page, survey: Survey, wish: SurveyWish) -> None:
    shown = [line for line in survey.lines if wish.everything or line.stands != WELL]
    page.heading("Hosts")
    most = len(shown) if wish.everything or wish.unwell else _MOST_LINES
    width = max((len(clean(line.host, 40)) for line in shown[:most]), default=0)
    for line in shown[:most]:
        _show_host(page, line, width)
    left = len(shown) - most
    if left > 0:
        page.line((f"and {left} more that are not well: --unwell", "dim"), indent=2)
    well = sum(line.stands == WELL for line in survey.lines)
    if well and not wish.everything and not wish.unwell:
        page.line((f"{counted(well, 'host')} {'is' if well == 1 else 'are'} well: --all", "dim"), indent=2)
    if not survey.lines:
        page.line("None.", indent=2)


def _show_host(page: Page, line: HostLine, width: int) -> None:
    sign = _SIGNS[line.stands]
    since = f" since {clock(line.since)}" if line.since is not None else ""
    page.line(
        (f"{page.sign(sign)} ", sign.style),
        (clean(line.host, 40).ljust(width), "bold"),
        f"  {line.stands}{since}",
        (f": {_what(line)}" if line.stands != WELL else "", ""),
        indent=2,
        hang=width + 6,
    )


def _what(line: HostLine) -> str:
    if line.stands == UNREAD:
        return clean(line.why or "nobody says why", 200)
    more = f" and {len(line.services) - _FEW} more" if len(line.services) > _FEW else ""
    return ", ".join(clean(name, 60) for name in line.services[:_FEW]) + more


def survey_document(survey: Survey, wish: SurveyWish) -> Document:
    """``survey --json``."""
    lines = [line for line in survey.lines if not wish.unwell or line.stands != WELL]
    counts = Counter(line.stands for line in survey.lines)
    document: Document = {
        "format": "hollow-chain/survey",
        "version": 1,
        "words": wish.words,
        "summary": lead(survey),
        "well": counts[WELL],
        "not_well": counts[UNWELL],
        "not_read": counts[UNREAD],
        "earlier": survey.earlier,
        "tests": survey.tests,
        "stale": [line.host for line in survey.stale],
        "causes": [_cause_entry(one) for one in survey.causes],
        "hosts": [_host_entry(line) for line in lines],
    }
    if wish.by:
        document["by"] = [
            {"value": value, "well": of[WELL], "not_well": of[UNWELL], "not_read": of[UNREAD]}
            for value, of in counted_by(survey, wish.by)
        ]
    return document


def _cause_entry(one: CauseOver) -> Document:
    return {
        "cause": one.cause,
        "service": one.service,
        "hosts": one.hosts,
        "takes_along": one.takes_along,
        "services": one.services,
        "says": one.says,
        "confidence": round(one.confidence, 3),
        "compared": one.compared,
        "in_common": [_shared_entry(shared) for shared in one.shared],
    }


def _shared_entry(shared: Shared) -> Document:
    odds = shared.odds
    return {
        "kind": shared.factor.kind,
        "of": shared.factor.of,
        "what": shared.factor.what,
        "value": shared.factor.value,
        "says": factor_words(shared.factor),
        "not_well_with": shared.counts.sick_with,
        "not_well": shared.counts.sick,
        "well_with": shared.counts.well_with,
        "well": shared.counts.well,
        "odds_ratio": odds.ratio if isfinite(odds.ratio) else None,
        "odds_low": odds.low,
        "odds_high": odds.high if isfinite(odds.high) else None,
        "chance": shared.chance,
        "same_hosts": [factor_words(factor) for factor in shared.same],
    }


def _host_entry(line: HostLine) -> Document:
    return {
        "host": line.host,
        "stands": line.stands,
        "read_at": when(line.read_at),
        "since": when(line.since),
        "services": line.services,
        "why": line.why,
        "groups": line.groups,
        "family": line.family,
        "system": line.system,
        "down_after_boot": line.at_risk,
    }
