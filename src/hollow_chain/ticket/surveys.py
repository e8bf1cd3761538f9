"""A survey as a page."""

from __future__ import annotations

from hollow_chain.causes.words import clock
from hollow_chain.fleet.surveying import UNREAD, UNWELL, WELL, CauseOver, HostLine, Survey
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.show.survey import SurveyWish, counted_by, counts_words, factor_words, lead
from hollow_chain.wording.counts import counted

_TONES = {WELL: "well", UNWELL: "unwell", UNREAD: "idle"}
_FEW, _MOST = 8, 2_000
"""Names and causes that are written out, and hosts in a list: a page of more than that nobody can open on a telephone."""


def survey_sheet(survey: Survey, wish: SurveyWish) -> Sheet:
    """The page about many hosts."""
    title = f"Survey of {counted(len(survey.lines), 'host')}"
    newest = max((line.read_at for line in survey.lines if line.read_at is not None), default=None)
    sheet = Sheet(title + (f": {wish.words}" if wish.words else ""), f"{lead(survey)}.", _names(survey), newest)
    for one in survey.causes[:_FEW]:
        sheet.add(f"{one.cause} on {one.service}", _cause(one))
    rest = [SheetLine(one.says, f"{one.cause} on {one.service}", _hosts(one.hosts)) for one in survey.causes[_FEW:]]
    sheet.add("Rarer causes", rest, folded=True)
    if wish.by:
        rows = [
            SheetLine(", ".join(f"{of[stands]} {stands}" for stands in (UNWELL, UNREAD, WELL) if of[stands]), value)
            for value, of in counted_by(survey, wish.by)
        ]
        sheet.add(f"By {wish.by}", rows)
    unwell = [_line(line) for line in survey.lines if line.stands != WELL]
    sheet.add("Hosts that are not well, or not read", unwell, most=_MOST)
    if not wish.unwell:
        well = [_line(line) for line in survey.lines if line.stands == WELL]
        sheet.add("Hosts that are well", well, folded=True, most=_MOST)
    return sheet


def _names(survey: Survey) -> str:
    names = [line.host for line in survey.lines]
    more = f" and {len(names) - _FEW} more" if len(names) > _FEW else ""
    return f"{', '.join(sorted(names)[:_FEW])}{more}"


def _cause(one: CauseOver) -> list[SheetLine]:
    lines = [SheetLine(one.says, tone="cause"), SheetLine(_hosts(one.hosts), "on")]
    if one.takes_along:
        lines.append(SheetLine(_hosts(one.takes_along), "takes along"))
    for shared in one.shared:
        same = f"the very same hosts: {'; '.join(map(factor_words, shared.same[:4]))}" if shared.same else ""
        lines.append(SheetLine(f"{factor_words(shared.factor)}: {counts_words(shared)}", "in common", same))
    return lines


def _hosts(names: list[str]) -> str:
    more = f" and {len(names) - _FEW} more" if len(names) > _FEW else ""
    return f"{counted(len(names), 'host')}: {', '.join(names[:_FEW])}{more}"


def _line(line: HostLine) -> SheetLine:
    since = f"since {clock(line.since)}" if line.since is not None else ""
    text = line.why if line.stands == UNREAD else ", ".join(line.services[:_FEW]) or "all is well"
    return SheetLine(text, line.host, f"{line.stands} {since}".strip(), _TONES[line.stands])
