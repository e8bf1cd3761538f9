"""A page as a file: HTML that needs nothing else, or Markdown (CommonMark). Everything in it is foreign text, and is escaped."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import UTC, datetime

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup
from msgspec.structs import replace

from hollow_chain.lazy import pattern
from hollow_chain.show.clean import clean
from hollow_chain.show.page import MOMENT, local
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.ticket.chain_picture import chain_picture

ENDINGS = (".html", ".md")
_MOST = 4000
"""Signs of one text that are kept."""
_MARKS = {"well": "\u25c6", "waits": "\u25c8", "idle": "\u00b7", "unwell": "\u25c7", "cause": "\u25c7"}
_SPECIAL = pattern(r"([\\`*_{}\[\]<>#|!~&])")
"""What has a meaning within a line of Markdown (CommonMark, 2.4 and 6)."""
_LEADS = pattern(r"^(\d{1,9})([.)])|^([-+=])")
"""What has one at its head."""
_INTERNAL = ("log",)
"""Kinds of blocks that are of the house alone: a log may say anything."""
_NOT_FOR_OTHERS = frozenset(("Files", "Not read, so not judged", "Last log lines"))


def written_page(sheet: Sheet, ending: str, version: str, now: datetime | None = None) -> str:
    """The page in the form that *ending* names, one of :data:`ENDINGS`."""
    kind = ending.removeprefix(".")
    is_html = kind == "html"
    made = Environment(
        loader=PackageLoader("hollow_chain.ticket"),
        autoescape=is_html,
        undefined=StrictUndefined,
        keep_trailing_newline=True,
        trim_blocks=False,
    )
    plain = _for_html if is_html else _for_markdown
    made.filters.update(
        plain=plain,
        at_head=_at_head,
        moment=lambda at: plain(_both(f"{at.astimezone(UTC):%Y-%m-%d %H:%M:%S}Z")),
        mark=lambda tone: _MARKS.get(tone, ""),
        chain=_picture,
        code=_code,
    )
    at = now or datetime.now(UTC)
    zone = local(f"{at.astimezone(UTC):%Y-%m-%d %H:%M:%S}Z").rpartition(" ")[2]
    note = "All moments are in UTC." if zone == "UTC" else f"Moments are in {zone}, with UTC behind."
    return made.get_template(f"page.{kind}.j2").render(sheet=sheet, version=version, written=at, zone_note=note)


def for_others(sheet: Sheet, discreet: Callable[[str], str]) -> Sheet:
    """The page for somebody outside of the house: what *discreet* leaves of each text, and without what is for the house alone."""
    blocks = [
        replace(block, lines=[_discreet(line, discreet) for line in block.lines])
        for block in sheet.blocks
        if block.kind not in _INTERNAL and block.title not in _NOT_FOR_OTHERS
    ]
    about = [_discreet(line, discreet) for line in sheet.about if line.label != "by"]
    texts = {name: discreet(getattr(sheet, name)) for name in ("title", "lead", "symptom")}
    return replace(sheet, blocks=blocks, about=about, **texts)


def _discreet(line: SheetLine, discreet: Callable[[str], str]) -> SheetLine:
    return SheetLine(discreet(line.text), discreet(line.label), discreet(line.aside), line.tone)


def _both(text: str) -> str:
    """*text* with its moments in local time, and in UTC where that is another one."""

    def said(found: object) -> str:
        moment = str(found[0])  # type: ignore[index]
        here = local(moment)
        return here if here.endswith(" UTC") else f"{here} ({moment[11:19]} UTC)"

    return MOMENT.sub(said, text) if "Z" in text else text


def _for_html(text: object) -> str:
    return _both(clean(str(text), _MOST))


def _for_markdown(text: object) -> str:
    return _SPECIAL.sub(r"\\\1", _both(clean(str(text), _MOST)))


def _at_head(text: object) -> str:
    """The same at the head of a line."""
    escaped = _for_markdown(text)
    return _LEADS.sub(lambda found: f"{found[1]}\\{found[2]}" if found[1] else f"\\{found[3]}", escaped)


def _picture(lines: Sequence[SheetLine]) -> Markup:
    # What it is made of is escaped where it is drawn.
    return Markup(chain_picture(lines))


def _code(text: object) -> str:
    """Lines to type; nothing in them ends the fence that stands around them in Markdown."""
    lines = (clean(line, _MOST) for line in str(text).split("\n"))
    return "\n".join(line.replace("```", "'''") for line in lines)
