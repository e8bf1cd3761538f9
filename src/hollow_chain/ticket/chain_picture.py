"""The chain as a drawing that stands inside of a page (SVG 1.1), narrow enough for a telephone."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from hollow_chain.show.clean import clean
from hollow_chain.show.sheet import SheetLine

_WIDTH, _BOX, _GAP, _PAD = 340, 46, 26, 2
"""Measures in pixels: as wide as the narrowest telephone, two lines of text in a box."""
_NAME, _STATE = 36, 46
"""Signs of a name and of a state that find room in a box."""
_COLORS = {"well": "#1b6e32", "waits": "#1f5f8b", "idle": "#5f6368", "unwell": "#a15c00", "cause": "#b3261e"}
_MARKS = {"well": "\u25c6", "waits": "\u25c8", "idle": "\u00b7", "unwell": "\u25c7", "cause": "\u25c7"}
MOST = 14
"""Links that are drawn; a longer chain is folded in its middle."""


def chain_picture(lines: Sequence[SheetLine]) -> str:
    """The drawing of a chain, the target on top."""
    kept = list(lines)
    if len(kept) > MOST:
        half = MOST // 2
        between = SheetLine(f"{len(kept) - MOST + 1} more links", aside="each needing the next", tone="idle")
        kept = [*kept[:half], between, *kept[-(MOST - half - 1) :]]
    height = len(kept) * (_BOX + _GAP) - _GAP + 2 * _PAD
    label = " needs ".join(clean(line.text, 80) for line in kept)
    drawn = [
        f'<svg class="chain" xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {_WIDTH} {height}" role="img" '
        f'aria-label="{escape(label)}">'
    ]
    for at, line in enumerate(kept):
        drawn += _link(line, _PAD + at * (_BOX + _GAP), at + 1 < len(kept))
    return "".join([*drawn, "</svg>"])


def _link(line: SheetLine, top: int, more: bool) -> list[str]:
    color = _COLORS.get(line.tone, _COLORS["idle"])
    name, state = clean(line.text, 300), clean(line.aside, 300)
    wide = 2.5 if line.tone == "cause" else 1.2
    dash = ' stroke-dasharray="5 3"' if line.tone in ("unwell", "cause") else ""
    parts = [
        f"<g><title>{escape(name)}: {escape(state)}</title>",
        f'<rect x="{_PAD}" y="{top}" width="{_WIDTH - 2 * _PAD}" height="{_BOX}" rx="6" fill="#ffffff" stroke="{color}" '
        f'stroke-width="{wide}"{dash}/>',
        f'<text x="12" y="{top + 19}" font-size="13" font-weight="600" fill="#1d1d1f"><tspan fill="{color}">'
        f"{_MARKS.get(line.tone, '')}</tspan> {escape(_cut(name, _NAME))}</text>",
        f'<text x="12" y="{top + 37}" font-size="12" fill="{color}">{escape(_cut(state, _STATE))}</text></g>',
    ]
    if more:
        below = top + _BOX
        parts.append(
            f'<path d="M24 {below} v{_GAP - 5} m-4 -5 l4 5 l4 -5" fill="none" stroke="#5f6368" stroke-width="1.4"/>'
            f'<text x="36" y="{below + 17}" font-size="11" fill="#5f6368">needs</text>'
        )
    return parts


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 1]}\u2026"
