"""Which of the calls that failed ended a start: by what failed and how, by whether the program went on, and by what fails in good
starts too.

The numbers stand in ``call_weights.json``, each with its reason. They order the calls of one start against one another; what a call
comes to is then its share of them all.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from types import MappingProxyType

import msgspec

from hollow_chain import decoding
from hollow_chain.facts.observed import ObservedCall
from hollow_chain.observing.call_table import BIND, CONNECT, LOCK, LOOK, OPEN, ROOM, RUN
from hollow_chain.observing.last_read import is_of_every_program
from hollow_chain.observing.story import Attempt, Life, Story

FILTER = "filter"
"""The kind of a call that a filter of calls refused."""
LIBRARY = "library"
"""The kind of a call that sought a library which is in no folder."""
_NOT_LOADED = 127
_LIBRARY = re.compile(r"\.so(?:\.[\w.]{1,20})?$")
_REFUSED_TO_WRITE = ("EACCES", "EPERM", "EROFS")
_ACCOUNT = re.compile(
    r"/(?:etc|run|run/host|(?:usr/(?:local/)?)?lib)/userdb/(?P<name>[^/\0]{1,64})\.(?P<kind>user|group)"
)
"""Where the C library seeks an account by its name when no file has it (nss-systemd(8))."""
_DIGITS = re.compile(r"\d+")
_MOST = 12
"""Calls that are kept: nobody reads more."""


class _ErrorWeight(msgspec.Struct):
    errors: list[str]
    kinds: dict[str, float]
    """By kind of call; the kind ``*`` stands for all others."""
    because: str
    floor: float = 0.0
    """The least that is left of it, however much was done after it: who gives up in good order does much."""


class _PlaceFactor(msgspec.Struct):
    paths: str
    """A pattern."""
    factor: float
    because: str


class _Reasoned(msgspec.Struct):
    value: float
    because: str


class _CallWeights(msgspec.Struct):
    about: str
    step: _Reasoned
    failed_after: _Reasoned
    went_on: _Reasoned
    only_read: _Reasoned
    in_good_starts: _Reasoned
    well_ended: _Reasoned
    still_runs: _Reasoned
    hangs_on: _Reasoned
    asked_again: _Reasoned
    passed_preparation: _Reasoned
    nothing: _Reasoned
    library: _Reasoned
    broken_link: _Reasoned
    unknown_account: _Reasoned
    already_runs: _Reasoned
    own_folder: _Reasoned
    own_data: _Reasoned
    module: _Reasoned
    errors: list[_ErrorWeight]
    places: list[_PlaceFactor]


@cache
def _numbers() -> _CallWeights:
    return decoding.of_json(Path(__file__).with_name("call_weights.json").read_bytes(), _CallWeights)


@cache
def _by_error() -> dict[str, _ErrorWeight]:
    return {error: row for row in _numbers().errors for error in row.errors}


@cache
def _places() -> list[tuple[re.Pattern[str], float]]:
    return [(re.compile(row.paths), row.factor) for row in _numbers().places]


def signature(name: str, error: str, thing: str) -> str:
    """What makes a failed call the same one in another start: numbers of processes and of tries aside."""
    return f"{name} {error} {_DIGITS.sub('#', thing)}"


def signatures(story: Story) -> set[str]:
    """What failed, in the form in which starts are compared."""
    return {
        signature(one.call.name, one.call.error, one.thing)
        for life in story.lives.values()
        for one in life.failed
        if _by_error().get(one.call.error)
    }


def weighed(
    story: Story,
    good: frozenset[str],
    failed: bool,
    missed: Mapping[str, str] = MappingProxyType({}),
    hung: bool = False,
) -> list[ObservedCall]:
    """The calls that may have ended the start, the weightiest first, each with its share. *good*: what fails in good starts too;
    *failed*: whether the start ended badly, and not just without leaving anything; *missed*: paths that were meant to be there, and
    by which row of the table; *hung*:
    whether it came to its limit, or is still under way."""
    again = asked_again(story) if hung else frozenset()
    scored: dict[tuple[str, str], tuple[float, ObservedCall]] = {}
    for score, one in _scored(story, good, failed, missed, again):
        key = one.error, one.thing or one.name
        if score >= scored.get(key, (0.0, one))[0]:  # of equal ones the last, which is nearest to the end
            scored[key] = score, one
    best = sorted(scored.values(), key=lambda pair: -pair[0])
    # Squares: one call that stands out is the reason, however many searches have failed beside it.
    whole = _numbers().nothing.value ** 2 + sum(score**2 for score, _ in best)
    return [msgspec.structs.replace(one, weight=round(score**2 / whole, 3)) for score, one in best[:_MOST]]


def _scored(
    story: Story, good: frozenset[str], failed: bool, missed: Mapping[str, str], again: frozenset[tuple[str, str]]
) -> Iterator[tuple[float, ObservedCall]]:
    tops = story.tops()
    hangs = failed and bool(tops) and tops[-1].end is None
    for life in story.lives.values():
        ended = _of_end(story, life, failed)
        for refused in life.refused:
            yield ended, _seen(life, refused.refused, FILTER, "", "SIGSYS", refused.at, False)
        yield from _libraries(life)
        yield from _loaded_in_vain(life, ended, good)
        yield from _already_runs(story, life, ended)
        modules = _modules(life)
        for one in life.failed:
            if not (worth := _worth(one, missed)):
                continue
            # What is left of an error however much is done after it tells that it is no search.
            near = (
                _numbers().hangs_on.value if hangs and life.end is None and _by_error()[one.call.error].floor else ended
            )
            score = near * (_numbers().module.value if one in modules else worth) * _went_on(life, one)
            if (one.call.error, one.thing) in again:
                score = max(score, _numbers().asked_again.value)
            if signature(one.call.name, one.call.error, one.thing) in good:
                score *= _numbers().in_good_starts.value
            if score > 0:
                kind, thing = _meant(one)
                yield (
                    score,
                    _seen(life, one.call.name, kind, thing, one.call.error, one.call.at, one.writes, one.program),
                )


def _meant(one: Attempt) -> tuple[str, str]:
    """What a call was to do, and with what: the place in which an account is sought stands for that account."""
    account = _ACCOUNT.fullmatch(one.thing)
    return (account["kind"], account["name"]) if account is not None else (one.known.kind, one.thing)


def _libraries(life: Life) -> Iterator[tuple[float, ObservedCall]]:
    """The library for want of which the loader gave up (ld.so(8), which then ends with that status): the last one that was sought and
    found in no folder, or the last one that was found and not taken into memory."""
    if life.end is None or life.end.status != _NOT_LOADED:
        return
    found = {path: at for path, at in life.succeeded.items() if _LIBRARY.search(path)}
    names = {path.rpartition("/")[2] for path in found}
    sought = [one for one in life.failed if _LIBRARY.search(one.thing) and one.known.kind == OPEN]
    if sought and (name := sought[-1].thing.rpartition("/")[2]) not in names:
        yield 1.0, _seen(life, sought[-1].call.name, LIBRARY, name, "ENOENT", sought[-1].call.at, False)
    last = max(found, key=lambda path: found[path], default="")
    if last and (ROOM, last) not in life.succeeded_as:
        refused = next((one for one in life.failed[::-1] if one.thing == last and one.known.kind == ROOM), None)
        if refused is not None:  # there was no room for it, whatever it is
            yield 1.0, _seen(life, refused.call.name, ROOM, last, refused.call.error, refused.call.at, False)
        else:
            yield 1.0, _seen(life, "mmap", LIBRARY, last, "ENOEXEC", found[last], False)


_FOLDERS_OF_LIBRARIES = 2
"""Folders in which a library is sought before nobody has it: one is tried by its path alone."""
_OF_NAMES = "libnss_"
"""How libraries begin that the C library seeks for every kind of name, whether there are any or not (nsswitch.conf(5))."""


def _loaded_in_vain(life: Life, ended: float, good: frozenset[str]) -> Iterator[tuple[float, ObservedCall]]:
    """The library that a program sought by itself (dlopen(3)), found in no folder, and ended right after."""
    if life.end is None or life.end.status == _NOT_LOADED:
        return
    sought = [
        one
        for one in life.failed
        if one.known.kind == OPEN and one.call.error == "ENOENT" and _LIBRARY.search(one.thing)
    ]
    if not sought:
        return
    last = sought[-1]
    name = last.thing.rpartition("/")[2]
    folders = {one.thing.rpartition("/")[0] for one in sought if one.thing.endswith(f"/{name}")}
    had = any(path.endswith(f"/{name}") for path in life.succeeded)
    if had or len(folders) < _FOLDERS_OF_LIBRARIES or name.startswith(_OF_NAMES):
        return
    numbers = _numbers()
    score = ended * numbers.module.value * numbers.step.value ** min(life.progress - last.progress, 200)
    if signature(last.call.name, last.call.error, last.thing) in good:
        score *= numbers.in_good_starts.value
    yield score, _seen(life, last.call.name, LIBRARY, name, "ENOENT", last.call.at, False)


_SOUGHT_AS_ONE = 3
"""Paths at which a name is sought, with more than one ending among them, from which on it is that of a part of the program."""


def _modules(life: Life) -> frozenset[Attempt]:
    """Of each name that was sought with several endings or in several folders, and found with none and in none, the first call for it: a
    part of the program that is not there, as interpreters seek these."""
    sought: dict[str, list[Attempt]] = {}
    for one in life.failed:
        is_library = _LIBRARY.search(one.thing) is not None
        if (
            one.call.error == "ENOENT"
            and one.known.kind in (LOOK, OPEN)
            and not (one.writes or is_library)
            and _of_place(one) >= 1.0
        ):
            sought.setdefault(_stem(one.thing), []).append(one)
    had = {_stem(path) for path in life.succeeded}
    return frozenset(
        tries[0]
        for stem, tries in sought.items()
        if stem
        and stem not in had
        and len({one.thing for one in tries}) >= _SOUGHT_AS_ONE
        and len({one.thing.rpartition("/")[2] for one in tries}) > 1
    )


def _stem(path: str) -> str:
    """The name at the end of a path, without what says of which kind it is."""
    name = path.rpartition("/")[2]
    return name.partition(".")[0] if not name.startswith(".") else ""


_FROM_FILE = 1.0
"""Seconds between reading the number of a process and asking after it, traced."""
_LOOKS_AT_ALL = 3
"""Other processes that a program asks after which does not look for one by its number."""


def _already_runs(story: Story, life: Life, ended: float) -> Iterator[tuple[float, ObservedCall]]:
    """The file by whose number a process found that another one is there: an instance of its own program, as it takes it. Such a file is a
    lock, and which process it names is read afterwards."""
    others = [one for one in life.met if one.number not in story.lives and one.number > 1]
    if not others or len({one.number for one in others}) > _LOOKS_AT_ALL:
        return
    last, top = others[-1], story.top(life)
    read = [
        (at, path)
        for one in story.lives.values()
        if story.top(one) is top
        for path, at in one.read.items()
        if at <= last.at <= at + _FROM_FILE and not is_of_every_program(path)
    ]
    if read:
        numbers = _numbers()
        near = max(numbers.step.value ** min(life.progress - last.progress, 200), numbers.already_runs.value)
        yield near * ended, _seen(life, "kill", LOCK, max(read)[1], "EEXIST", last.at, False)


def _seen(
    life: Life, name: str, kind: str, thing: str, error: str, at: float, writes: bool, program: str = ""
) -> ObservedCall:
    moment = datetime.fromtimestamp(at, UTC)
    return ObservedCall(name, kind, thing, error, moment, life.number, program or life.program, writes)


def _of_end(story: Story, life: Life, failed: bool) -> float:
    """How near the end of a process is to that of the start."""
    numbers = _numbers()
    top, end = story.top(life), life.end
    later = any(other.began > top.last for other in story.tops())
    if later and top.end is not None and (top.end.status == 0 or top.program in story.forgiven):
        return numbers.passed_preparation.value
    if end is None:
        return numbers.still_runs.value
    if end.status == 0 and failed:
        return numbers.well_ended.value
    above = story.lives.get(life.parent)
    if above is not None and above.end is not None:  # what the one that began it did, after it had ended
        after = sum(1 for one in above.failed if one.call.at > end.at)
        return 1.0 if after <= 1 else numbers.step.value ** min(after, 40)
    return 1.0


def sought_in_vain(story: Story) -> set[str]:
    """Paths that were not found, wherever they were sought."""
    return {
        one.thing
        for life in story.lives.values()
        for one in life.failed
        if one.call.error == "ENOENT" and one.known.kind in (LOOK, OPEN, RUN) and one.thing.startswith("/")
    }


def _worth(one: Attempt, missed: Mapping[str, str]) -> float:
    row = _by_error().get(one.call.error)
    if row is None:
        return 0.0
    if _ACCOUNT.fullmatch(one.thing) and one.call.error == "ENOENT":
        return _numbers().unknown_account.value
    if one.thing in missed and one.call.error == "ENOENT":
        meant: _Reasoned = getattr(_numbers(), missed[one.thing])
        # What is opened, or is to be written, is meant more than what is looked for.
        return max(meant.value, row.kinds.get(one.known.kind, 0.0))
    kinds = row.kinds
    kind = "write" if one.writes and f"{one.known.kind} to write" not in kinds else f"{one.known.kind} to write"
    kind = kind if one.writes and kind in kinds else one.known.kind
    if one.excludes and "first" in kinds:
        kind = "first"
    worth = kinds.get(kind, kinds.get("*", 0.0))
    if _LIBRARY.search(one.thing) and one.known.kind == OPEN and one.call.error == "ENOENT":
        return worth * _numbers().library.value
    return worth * _of_place(one)


def _of_place(one: Attempt) -> float:
    """What it takes from a call that failed that many do at that place, and do without."""
    if one.known.kind == BIND or not (one.thing.startswith("/") or one.known.kind == CONNECT):
        return 1.0
    return next((factor for pattern, factor in _places() if pattern.search(one.thing)), 1.0)


_WAITED_FOR = (LOOK, OPEN, CONNECT, LOCK, BIND)
_TRIES, _APART = 3, 1.0
"""How often, and for how many seconds at least, a thing is asked for in vain that a start waits for."""


def asked_again(story: Story) -> frozenset[tuple[str, str]]:
    """Errors and things of the calls that failed again and again, and never came to their end; what any program asks for is left out."""
    asked: dict[tuple[str, str], list[float]] = {}
    for life in story.lives.values():
        for one in life.failed:
            if one.known.kind in _WAITED_FOR and one.thing not in ("", *life.succeeded) and _of_place(one) >= 1.0:
                asked.setdefault((one.call.error, one.thing), []).append(one.call.at)
    had = {path.rpartition("/")[2] for life in story.lives.values() for path in life.succeeded}
    return frozenset(
        what
        for what, at in asked.items()
        if len(at) >= _TRIES and max(at) - min(at) >= _APART and what[1].rpartition("/")[2] not in had
    )


def _went_on(life: Life, one: Attempt) -> float:
    """How far the program went on after a call had failed, and whether another way was found."""
    numbers = _numbers()
    if not one.program and life.program:  # the manager's own preparation, which came to its end
        return numbers.passed_preparation.value
    after = life.progress - one.progress + numbers.failed_after.value * (len(life.failed) - one.order - 1)
    factor: float = max(numbers.step.value ** min(after, 200), _by_error()[one.call.error].floor)
    by_name = one.known.descriptor is None or one.known.kind == CONNECT
    later = life.succeeded.get(one.thing, 0.0) if by_name else life.succeeded_as.get((one.known.kind, one.thing), 0.0)
    is_sought = one.known.kind in (LOOK, RUN, OPEN)
    # Who writes means that very place, but for one that falls back on another.
    since = one.call.at if one.writes else 0.0
    if later > one.call.at or (is_sought and _found_elsewhere(life, one.thing, since)):
        only_read = one.writes and one.known.kind == OPEN and one.call.error in _REFUSED_TO_WRITE
        factor *= numbers.only_read.value if only_read else numbers.went_on.value
    return factor


def _found_elsewhere(life: Life, thing: str, since: float) -> bool:
    """Whether something of that name was found in another folder, *since* then: then it was only sought here first."""
    name = thing.rpartition("/")[2]
    found = (path for path, at in life.succeeded.items() if path != thing and path.endswith(f"/{name}") and at >= since)
    return bool(name) and any(True for _ in found)
