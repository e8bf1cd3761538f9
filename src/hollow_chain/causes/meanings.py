"""What numbers and messages of failure mean: error numbers, exit statuses, results, signals, sentences with them in.

The meanings are data (``meanings.yaml``); this module finds which of them a text speaks of.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from hollow_chain.facts.host import Event
from hollow_chain.lazy import pattern
from hollow_chain.wording.system_errors import control_errors, errors, signal_named, signals

SOURCES = {
    "control": "numbered error of the control-manager family",
    "system": "number of the system below the control-manager family",
    "manager": "exit status of systemd itself (systemd.exec(5))",
    "program": "exit status of a program, by convention (sysexits.h(3head), LSB)",
    "signal": "signal (signal(7))",
    "result": "result of systemd (systemd.service(5))",
    "errno": "error number of the kernel (errno(3))",
}
_NUMBER = pattern(r"(?<![\w.:/])(?P<number>-?\d{1,10}|0[xX][0-9A-Fa-f]{1,8})(?![\w]|[.:]\S|/\d)")
_STATUS = pattern(r"(?i)(?:status=|exit(?:ed)?(?: with)?(?: code| status)?|returned?|code)[ =:]*(\d{1,3})\b")
_ERRNO_NUMBER = pattern(r"(?i)\b(?:errno|os error|error code|err)[ =:#]*(\d{1,3})\b|\((\d{1,3}): |\[Errno (\d{1,3})\]")
_SIGNAL = pattern(r"\bSIG([A-Z]{2,8})\b|(?i:\bsignal[ =:#]*(\d{1,2})\b)|status=\d{1,2}/([A-Z]{3,6})\b")
_WIDE_ERROR = 0x80070000
"""HRESULT values (unsigned) from here on carry a numbered error in their low 16 bits."""
_WIDEST_PLAIN = 0xFFFF
"""The highest numbered error: above it are numbers of 32 bits, in which severity and origin stand before the number."""


class Reading(msgspec.Struct, frozen=True):
    """One thing that a text may mean."""

    what: str
    """The number or word as it is known."""
    family: str
    means: str
    causes: tuple[str, ...] = ()
    mixed_up: str = ""
    likely: float = 0.5
    """How well it fits the text, from 0 to 1."""
    of_others: bool = False
    """Whether it tells of another service, or of a request, and not of why this one failed."""

    @property
    def within(self) -> str:
        """What it means, as a part of a sentence."""
        return f"{self.means[:1].lower()}{self.means[1:].rstrip('.')}"

    @property
    def source(self) -> str:
        """Where the number or word comes from."""
        return SOURCES[self.family]


@cache
def _table() -> dict[str, dict[Any, dict[str, Any]]]:
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    loaded: dict[str, dict[Any, dict[str, Any]]] = yaml.load(
        Path(__file__).with_name("meanings.yaml").read_bytes(), loader
    )
    return loaded


def read(text: str) -> list[Reading]:
    """Every meaning that *text* may have, best first; empty where nothing in it is known."""
    text = text[:4000]
    best: dict[tuple[str, str], Reading] = {}
    for reading in _readings(text):
        key = (reading.family, reading.what)
        if key not in best or best[key].likely < reading.likely:
            best[key] = reading
    return sorted(best.values(), key=lambda reading: (-reading.likely, reading.family, reading.what))


def _readings(text: str) -> Iterator[Reading]:
    alone = bool(re.fullmatch(r"-?\d{1,20}|0[xX][0-9A-Fa-f]{1,16}", text.strip()))
    yield from _named(text)
    for found in _SIGNAL.finditer(text):
        yield from _signal(found[1] or found[3] or "", int(found[2] or 0), 0.9)
    for found in _STATUS.finditer(text):
        yield from _exit_status(int(found[1]), 0.85)
    for found in _ERRNO_NUMBER.finditer(text):
        yield from _errno(int(found[1] or found[2] or found[3]), 0.9)
    for found in _NUMBER.finditer(text):
        yield from _number(int(found["number"], 0 if found["number"].lower().startswith("0x") else 10), alone)


def _named(text: str) -> Iterator[Reading]:
    lower = text.lower()
    for known in errors().values():
        if known.text.lower() in lower or re.search(rf"\b{known.name}\b", text):
            yield from _errno(known.number, 0.95)
    for word, entry in _table()["result"].items():
        stated = re.search(rf"(?i)result[ =:]*'?{re.escape(word)}\b", text) or lower.strip() == word
        if stated or ("-" in word and re.search(rf"\b{re.escape(word)}\b", lower)):
            yield _made(word, "result", entry, 0.9)
    for number in numbers_in(text):
        yield from _control(number, 0.97)
    for family in ("manager", "program"):
        for number, entry in _table()[family].items():
            name = entry.get("name", "")
            if name and re.search(rf"\b{number}/{name}\b|(?:^|\s)(?:EXIT_|EX_){name}\b", text):
                yield _made(f"{number}/{name}", family, entry, 0.98)


def _number(number: int, alone: bool) -> Iterator[Reading]:
    unsigned = _unsigned(number)
    if abs(number) > _WIDEST_PLAIN:
        yield from _wide(unsigned, 0.95)
        return
    if number < 0:
        number = -number
    yield from _control(number, 0.8 if number > 255 else 0.55 if alone else 0.4)
    if alone:
        yield from _exit_status(number, 0.6 if number >= 64 else 0.5)
        yield from _errno(number, 0.45)


def _unsigned(number: int) -> int:
    return number & 0xFFFFFFFF if number < 0 else number


def _wide(unsigned: int, likely: float) -> Iterator[Reading]:
    """What a number of 32 bits means: one that wraps a numbered error, one that stands for one, or one of its own."""
    stands_for = _stands_for(unsigned)
    if stands_for is not None:
        yield from _control(stands_for, likely, f" (from 0x{unsigned:08X})")
    elif entry := _table()["system"].get(unsigned):
        yield _made(f"0x{unsigned:08X}", "system", entry, likely)


def _stands_for(unsigned: int) -> int | None:
    """The numbered error that a number of 32 bits stands for; None where it stands for none."""
    if 0 <= unsigned - _WIDE_ERROR <= _WIDEST_PLAIN:
        return unsigned & _WIDEST_PLAIN
    same: int | None = _table()["system"].get(unsigned, {}).get("same_as")
    return same


def _known(number: int) -> int | None:
    """The number as the table has it; None where it does not."""
    unsigned = _unsigned(number)
    stands_for = _stands_for(unsigned)
    plain = unsigned if stands_for is None else stands_for
    return plain if plain in _table()["control"] or plain in _table()["system"] else None


def _control(number: int, likely: float, note: str = "") -> Iterator[Reading]:
    entry = _table()["control"].get(number)
    if entry:
        yield _made(f"{number}{note}", "control", entry, likely)


def _exit_status(number: int, likely: float) -> Iterator[Reading]:
    for family in ("manager", "program"):
        entry = _table()[family].get(number)
        if entry:
            name = f"/{entry['name']}" if "name" in entry else ""
            yield _made(f"{number}{name}", family, entry, likely)
    if 128 < number <= 128 + 64:
        yield from _signal("", number - 128, likely)


def _signal(name: str, number: int, likely: float) -> Iterator[Reading]:
    found = signal_named(name) if name else signals().get(number)
    if found is None:
        return
    said = (found.text or found.name).lower()
    causes = ("killed-for-memory", "killed") if found.name == "SIGKILL" else ("killed", "stopped")
    yield Reading(found.name, "signal", f"A signal ended the program: {said}.", causes, likely=likely)


def _errno(number: int, likely: float) -> Iterator[Reading]:
    known = errors().get(number)
    if known is not None:
        entry = _table()["errno"].get(known.name, {"means": f"{known.text}.", "causes": ["exits-with-error"]})
        yield _made(f"{known.name} ({number})", "errno", entry, likely)


def _made(what: str, family: str, entry: dict[str, Any], likely: float) -> Reading:
    return Reading(
        what,
        family,
        entry["means"],
        tuple(entry.get("causes", ())),
        entry.get("mixed_up", ""),
        likely,
        entry.get("of_others", False),
    )


def control(number: int) -> Reading | None:
    """What a numbered error of the control-manager family means, or a number of the system below it; None where the table does not
    have it."""
    return next(_control(number, 1.0), None) or next(_wide(_unsigned(number), 1.0), None)


_PLAIN = 255
"""Up to here a program may mean anything by the status that it ends with."""


def number_of_status(status: int) -> int | None:
    """The number of the control-manager family, or of the system below it, that the exit status of a process stands for; None where it
    stands for none."""
    return _known(status) if _unsigned(status) > _PLAIN else None


def is_wide(number: int) -> bool:
    """Whether a number is one of 32 bits, in which severity and origin stand before the number itself."""
    return _unsigned(number) > _WIDEST_PLAIN


def written(number: int) -> str:
    """A number as people write it: one of 32 bits by its digits to the base 16."""
    return f"0x{_unsigned(number):08X}" if is_wide(number) else str(number)


_INSERTED = pattern(r"%%(-?\d{1,10})\b")
"""How a record names the text of an error by its number."""


@cache
def _sentences() -> tuple[tuple[re.Pattern[str], int], ...]:
    """The sentences of the manager, each with the number that it stands for; words that vary are left out (``...``)."""
    return tuple(
        (pattern(r"(?i)" + r"[^\n]{0,200}?".join(re.escape(part) for part in sentence.split(" ... "))), number)
        for number, sentences in _table()["sentences"].items()
        for sentence in sentences
    )


def numbers_in(text: str) -> list[int]:
    """Numbers of the control-manager family that a text names: inserted ones first, then those of the sentences that it holds."""
    text = text[:4000]
    found = [int(number) for number in _INSERTED.findall(text)]
    lowered = text.lower()
    found += [one.number for one in control_errors().values() if one.text.lower().rstrip(".") in lowered]
    found += [number for sentence, number in _sentences() if sentence.search(text)]
    return list(dict.fromkeys(known for number in found if (known := _known(number)) is not None))


def numbers_of(event: Event) -> list[int]:
    """Numbers of the control-manager family that a record carries or names, those that say most first."""
    own = _known(event.number) if event.number is not None else None
    return list(dict.fromkeys([*([own] if own is not None else ()), *numbers_in(event.text)]))


_OF_SYSTEM = pattern(
    r"(?i)\b(?:(?:os|system|win32|windows|winsock|wsa|socket) (?:error|code)(?: code)?|winerror|win32error|(?:get|wsaget)?lasterror(?:\(\))?|"
    r"hresult|hr)(?:[ :=#]{1,3}(?:is |was |returned |of )?[(\[]?|[(\[])(?P<number>0x[0-9a-f]{1,8}|\d{1,10})\b"
)
"""How a line gives the number of an error that the system told the program, where it is known to be of the control-manager family."""


def numbers_of_system(text: str) -> list[int]:
    """Numbers of the control-manager family that a line says to be the system's."""
    if "rror" not in text and "RROR" not in text and "hr" not in text.lower():
        return []
    said = [int(found["number"], 0) for found in _OF_SYSTEM.finditer(text[:4000])]
    return list(dict.fromkeys(known for number in said if (known := _known(number)) is not None))


def nearest(text: str) -> list[str]:
    """The known numbers nearest to the first number in *text*: the help for one that is not known."""
    found = _NUMBER.search(text)
    if not found:
        return []
    number = int(found["number"], 0 if found["number"].lower().startswith("0x") else 10)
    if abs(number) > _WIDEST_PLAIN:
        wide = sorted(_table()["system"], key=lambda n: abs(n - _unsigned(number)))[:3]
        return [f"0x{n:08X}" for n in sorted(wide)]
    known = {n for family in ("control", "manager", "program") for n in _table()[family]}
    return [str(n) for n in sorted(sorted(known, key=lambda n: abs(n - abs(number)))[:3])]
