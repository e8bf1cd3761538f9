"""A page in the terminal."""

from __future__ import annotations

from hollow_chain.show.clean import clean
from hollow_chain.show.page import Page, age
from hollow_chain.show.sheet import Sheet, SheetLine
from hollow_chain.show.signs import BY_TONE

_LABEL = 16
"""Letters of a label, so that what stands behind them is in line."""
_MOST = 600
"""Signs of a text that are shown."""


def write_sheet(page: Page, sheet: Sheet) -> None:
    """Write it, heading by heading."""
    page.line((clean(sheet.title, 300), "bold"))
    page.line(clean(sheet.lead, _MOST))
    page.line((age(sheet.read_at), "dim"))
    for line in sheet.about:
        _fact(page, line)
    for block in sheet.blocks:
        page.heading(block.title)
        for line in block.lines:
            (_fact if block.kind == "facts" else _entry)(page, line)
        if block.left_out:
            page.line((f"... and {block.left_out} more: --json", "dim"), indent=3)
    page.legend()


def _fact(page: Page, line: SheetLine) -> None:
    room = max(_LABEL, len(line.label) + 1)
    page.line(
        (f"{clean(line.label, 60):<{room}} ", "dim"),
        clean(line.text, _MOST),
        (f"  [{clean(line.aside, 120)}]" if line.aside else "", "dim"),
        indent=3,
        hang=_LABEL + 1,
    )


def _entry(page: Page, line: SheetLine) -> None:
    sign = BY_TONE.get(line.tone)
    mark = (f"{page.sign(sign)} ", sign.style) if sign is not None else ("- ", "")
    page.line(
        mark,
        (f"{clean(line.label, 80)} " if line.label else "", "dim"),
        clean(line.text, _MOST),
        (f"  [{clean(line.aside, 160)}]" if line.aside else "", "dim"),
        indent=3,
        hang=2,
    )
