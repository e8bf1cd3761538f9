"""What the service manager itself says of the definition: unknown, refused, or not the one on disk."""

from __future__ import annotations

import re
from collections.abc import Iterator

from hollow_chain.causes.acts import reload, restart, start
from hollow_chain.causes.case import FILES, Case
from hollow_chain.causes.definition.reloads import old_settings
from hollow_chain.causes.finding import AFTER_REBOOT, AFTER_RELOAD, FITS, PROOF, SAID, Finding, Mend
from hollow_chain.causes.nature import Boot, Shown
from hollow_chain.causes.rule import NOT_UP, cause
from hollow_chain.causes.standing import failed_last
from hollow_chain.facts.host import Event
from hollow_chain.facts.service import Definition, Service
from hollow_chain.families.steps import step_of
from hollow_chain.lazy import pattern
from hollow_chain.wording.forms import read

_TWIN = pattern(r"[ _.-]?\(?\d{1,3}\)?$")


@cause(
    "not-registered",
    Boot.ANEW,
    states=("absent", "stopped"),
    shown=Shown(1075, "dependency", "{name} was not started: {blame} is not registered"),
)
def not_registered(case: Case) -> Iterator[Finding]:
    """No service of that name is registered on the host, or the name is that of a template.

    Looks at: all registered names and aliases; names that differ in a few letters or in a number at their end;
    instances of the same template.
    Convinced by: the whole list of services having been read, and the name not being in it.
    Against: nothing; a list that was read in part is told as unread.
    Mend: register it, or correct the name where it is needed.
    """
    if case.registered:
        if case.service.template and (case.asked or case.needed_from is not None):
            yield _template_without_argument(case)
        if case.asked or case.needed_from is not None:
            yield from _link_to_nothing(case)
        yield from _starts_nothing(case)
        return
    if case.node.name.endswith(".device"):
        return  # a device that is not there is `device-missing`
    if _may_be_uncaptured(case):
        yield _not_captured(case)
        return
    near = _near_names(case)
    above = case.needed_from
    who = f"{above.name} needs {case.node.name}, but no" if above else f"{case.node.name!r}: no"
    hint = f" Near names: {', '.join(near[:5])}." if near else ""
    mends = []
    if near and above:
        mends.append(Mend(f"If {near[0]} was meant, correct the name in the definition of {above.name}.", AFTER_RELOAD))
    mends.append(Mend(f"Otherwise register (install) {case.node.name} on {case.node.host}.", instead=True, seeks=True))
    yield Finding(
        says=f"{who} service of that name is registered on {case.node.host}.{hint}",
        evidence=(
            case.seen(
                f"{len(case.host.services)} services are registered on {case.node.host}; this is none of them",
                bears=PROOF,
            ),
        ),
        mends=tuple(mends),
        near=tuple(near),
    )


def _link_to_nothing(case: Case) -> Iterator[Finding]:
    """The name is another name for a definition that is not there."""
    definition = case.service.definition
    if definition is None or definition.load != "missing" or not definition.error or case.service.state == "running":
        return
    name = case.node.name
    yield Finding(
        says=f"{name} is only another name, for a service that is not registered: {definition.file}: {definition.error}.",
        evidence=(case.seen(f"{definition.file}: {definition.error}", FILES, bears=PROOF),),
        mends=(
            Mend(f"Register (install) what {definition.file} leads to.", AFTER_RELOAD, seeks=True),
            Mend("Or remove that link, and use the name of a service that is there.", AFTER_RELOAD, instead=True),
        ),
        explains=("stopped", "manual-not-started", "never-started", "disabled"),
    )


_NOTHING_TO_START = pattern(r"(?:unit|service) (?P<name>[^\s,]{1,255}) (?:to trigger )?not loaded")
"""How the manager refuses a unit that starts another one on its event, and that is not there (systemd.timer(5), ``Unit=``)."""


def _starts_nothing(case: Case) -> Iterator[Finding]:
    """What it starts on its event is not there, so that the manager refuses its start."""
    told = [e for e in case.events() if e.by_manager and _NOTHING_TO_START.search(e.text)]
    found = _NOTHING_TO_START.search(told[-1].text) if told and case.service.state != "running" else None
    if found is None or case.graph.find(case.node.host, found["name"]) is not None:
        return
    name, missing = case.node.name, found["name"]
    yield Finding(
        says=f"{name} is to start {missing} on its event, and no service of that name is registered on {case.node.host}.",
        evidence=(
            case.quoted(told[-1], SAID),
            case.seen(f"{len(case.host.services)} services are registered on {case.node.host}; {missing} is none of them", bears=PROOF),
        ),
        mends=(
            Mend(f"Register (install) {missing}; then start {name}.", seeks=True),
            Mend(f"Or correct its name in the definition of {name}.", AFTER_RELOAD, instead=True),
        ),
        explains=("stopped", "manual-not-started", "never-started", "unexplained", "exits-with-error"),
    )  # fmt: skip


NO_SUCH_NEED = 1075
"""Control-manager error number: a service that is needed does not exist."""


def _may_be_uncaptured(case: Case) -> bool:
    """Whether the name may be that of a driver or a group of services: these are needed by name too, and whoever listed services only
    has none of them. The manager itself would say that a need does not exist."""
    above = case.needed_from
    if above is None or case.family.names_tell_kinds or any(s.kind == "driver" for s in case.host.services):
        return False
    last = above.service.last if above.service is not None else None
    return last is None or last.error_number != NO_SUCH_NEED


def _not_captured(case: Case) -> Finding:
    above = case.needed_from.name if case.needed_from is not None else "it"
    return Finding(
        says=f"{above} needs {case.node.name}, of which these facts tell nothing: it may be a driver or a group, and none were captured.",
        evidence=(
            case.seen(f"{len(case.host.services)} services are in the facts of {case.node.host}, and no driver"),
        ),
        mends=(Mend(f"See on {case.node.host} whether {case.node.name} is there, and runs.", seeks=True),),
        note=True,
    )


def _near_names(case: Case) -> list[str]:
    from hollow_chain.wording.near import nearest

    names = list(case.graph.names(case.node.host))
    stem = _stem(case.node.name)
    twins = [n for n in names if _TWIN.sub("", _stem(n)).casefold() == _TWIN.sub("", stem).casefold()]
    family = [n for n in names if "@" in case.node.name and n.partition("@")[0] == case.node.name.partition("@")[0]]
    close = [one.name for one in nearest(case.node.name, names, 5, 78)]
    shown = [s for s in case.host.services if s.display_name]
    by_display = [shown[one.place].name for one in nearest(case.node.name, [s.display_name for s in shown], 3, 85)]
    return list(dict.fromkeys([*twins, *family, *close, *by_display]))[:8]


def _stem(name: str) -> str:
    return name.removesuffix(".service")


def _template_without_argument(case: Case) -> Finding:
    service = case.service
    instances = [s.name for s in case.host.services if s.template_of == service.name]
    offered = f" Instances here: {', '.join(instances[:6])}." if instances else " No instance of it is loaded here."
    return Finding(
        says=f"{service.name} is a template and cannot be started without an instance argument.{offered}",
        evidence=(
            case.seen(
                f"{service.name} is a template", service.definition.file if service.definition else FILES, bears=PROOF
            ),
        ),
        mends=(
            Mend(f"Start an instance, such as {instances[0] if instances else service.name.replace('@', '@NAME')}."),
        ),
        near=tuple(instances[:8]),
    )


@cause("bad-definition", Boot.ANEW, states=("running", "done", *NOT_UP))
def bad_definition(case: Case) -> Iterator[Finding]:
    """The manager refuses the definition.

    Looks at: how the definition was loaded; the manager's complaint, with file and line.
    Convinced by: the manager's own refusal.
    Against: nothing.
    Mend: correct it; a reload makes the manager read it again.
    """
    definition = case.service.definition
    yield from _not_applied(case)
    passed_over = _passed_over(case)
    if passed_over is not None:
        yield _part_refused(case, passed_over)
    if definition is None or definition.load != "refused":
        return
    complaints = [
        e for e in case.events() if e.file or re.search(r"\.(service|socket|timer|mount|path|target|conf):\d+:", e.text)
    ]
    refusals = [
        e for e in case.events() if re.search(r"(?i)refus|bad unit|invalid|bad-setting", e.text) and e not in complaints
    ]
    place = complaints[-1] if complaints else None
    where = f"{place.file}:{place.line}" if place and place.file and place.line else definition.file
    spoken = [*complaints[-2:], *refusals[-1:]]
    words = f" ({spoken[-1].text[:160]})" if spoken else f" ({definition.error})" if definition.error else ""
    yield Finding(
        says=f"The manager refuses the definition of {case.service.name}{f', {where}' if where else ''}{words}.",
        evidence=(
            case.seen(
                definition.error or f"definition of {case.service.name} refused",
                f"definition {definition.file}".rstrip(),
                bears=PROOF,
            ),
            *(case.quoted(event) for event in spoken),
        ),
        mends=(
            Mend(f"Correct {where or 'the definition'}.", AFTER_RELOAD),
            Mend(f"Then start {case.service.name}.", only_starts=True),
        ),
        explains=("stopped", "never-started", "manual-not-started"),
    )


def _not_applied(case: Case) -> Iterator[Finding]:
    """A setting that the manager could not put into effect for this start, by the exit status of its own step."""
    last = case.service.last
    step = (
        step_of(last.exit_status) if last is not None and failed_last(case.service) and not case.standing.well else None
    )
    if last is None or step is None or step.about != "setting":
        return
    said = [case.quoted(e, SAID) for e in case.last_events() if step.name in read(e.text).named("step", "step")][-1:]
    yield Finding(
        says=f"The manager could not put {step.settings} of {case.service.name} into effect: {step.means}.",
        evidence=(
            case.seen(
                f"exit status {last.exit_status} of the manager ({step.name}): {step.means}",
                at=last.ended_at,
                bears=SAID,
            ),
            *said,
        ),
        mends=(Mend(f"Correct {step.settings} in the definition of {case.service.name}.", AFTER_RELOAD),),
        explains=("exits-with-error", "crash-loop", "start-rate-limited"),
    )


def _passed_over(case: Case) -> Event | None:
    """The manager's complaint about a file of the definition that it read, and did not take over for that reason.

    It shows as a definition that seems to need a reload although it was read since it was changed.
    """
    definition = case.service.definition
    if definition is None or not definition.needs_reload or definition.load == "refused":
        return None
    changed = definition.changed_at
    files = (definition.file, *definition.drop_ins)
    said = [e for e in case.events() if e.file in files and e.line and e.level in ("error", "warning")]
    return next((e for e in reversed(said) if changed is None or e.at >= changed), None)


def _part_refused(case: Case, event: Event) -> Finding:
    up = case.service.state == "running"
    return Finding(
        says=f"The manager does not take {event.file} for {case.service.name}, because of line {event.line}: "
        f"\u201c{event.text[:160]}\u201d; the rest of its definition holds.",
        evidence=(case.quoted(event, PROOF),),
        mends=(Mend(f"Correct {event.file}:{event.line}.", AFTER_RELOAD),),
        note=up,
        explains=("stale-definition",),
    )


@cause("stale-definition", Boot.OVER, states=("running", *NOT_UP))
def stale_definition(case: Case) -> Iterator[Finding]:
    """The definition on disk is not the one that is loaded.

    Looks at: the manager's own flag; which settings differ; a reload that failed.
    Convinced by: the flag; for a service that is down, by a differing setting that bears on its start.
    Against: a service that is up and was not asked about: then it is a warning.
    Mend: reload the definitions, then restart the service.
    """
    service = case.service
    definition = service.definition
    if service.last is not None and service.last.reload_result:
        yield from old_settings(case)
    if definition is None or _passed_over(case) is not None:
        return
    if definition.load == "not-loaded":
        yield _not_loaded(case)
        return
    if not (definition.needs_reload or (definition.load == "missing" and service.state == "running")):
        return
    gone = definition.load == "missing"
    differing = [
        f"{k}: loaded {definition.loaded.get(k, '') or '(empty)'!r}, on disk {v!r}"
        for k, v in definition.on_disk.items()
    ]
    up = service.state == "running"
    yield Finding(
        says=f"The definition of {service.name} on disk "
        + ("is gone" if gone else "is newer than the one that is loaded")
        + (f" ({'; '.join(differing[:2])})" if differing else "")
        + ("; it runs by the old one." if up else "; starts still follow the old one."),
        evidence=(
            case.seen(
                case.family.word(
                    f"the manager reports that {service.name} needs a reload of its definition",
                    f"what is written of {service.name} is not what the manager has loaded",
                ),
                bears=FITS,
            ),
            *(case.seen(text, f"definition {definition.file}", definition.changed_at, FITS) for text in differing[:2]),
        ),
        mends=_reloading(service, gone) if case.family.defined_in_files else (_SET_ANEW,),
        note=(up and not case.asked) or _waits_for_a_boot(definition),
        residual=not differing,
        explains=_explained_by_reload(definition.on_disk) if not up and not _waits_for_a_boot(definition) else (),
    )


_STARTUP, _DISABLED = "Start", "4"


def _waits_for_a_boot(definition: Definition) -> bool:
    """Whether nothing differs but when the manager starts it by itself: that bears on no start before the next boot, unless the one
    that is loaded forbids all of them."""
    return list(definition.on_disk) == [_STARTUP] and definition.loaded.get(_STARTUP) != _DISABLED


_SET_ANEW = Mend(
    "Set the same through the manager's own interface, which then has it at once; or reboot: it reads what was written past it when the "
    "system boots.",
    AFTER_REBOOT,
)


def _reloading(service: Service, gone: bool) -> tuple[Mend, ...]:
    up = service.state == "running"
    return (
        Mend("Reload the definitions of the manager.", acts=() if gone else (reload(service.name),)),
        Mend(
            f"{'Restart' if up else 'Start'} {service.name}.",
            "after the reload",
            () if gone else ((restart if up else start)(service.name),),
        ),
    )


def _not_loaded(case: Case) -> Finding:
    """Its definition was written past the manager, which has not read it."""
    name, definition = case.node.name, case.service.definition
    assert definition is not None
    return Finding(
        says=f"{name} is defined, and the manager does not know it: its definition was written past the manager.",
        evidence=(
            case.seen(f"{definition.file or 'a definition'} is there", "definition", definition.changed_at, FITS),
            case.seen(f"no service {name} in the manager's own list", bears=PROOF),
        ),
        mends=(
            Mend("Reboot: the manager reads definitions when the system boots.", AFTER_REBOOT),
            Mend(f"Or register {name} through the manager's own interface.", instead=True),
        ),
        explains=("never-started", "manual-not-started", "not-registered", "stopped"),
    )


def _explained_by_reload(on_disk: dict[str, str]) -> tuple[str, ...]:
    """Which causes a reload may remove, by the settings that it would bring."""
    gone: list[str] = [
        "exits-with-error",
        "exits-at-once",
        "crash-loop",
        "start-rate-limited",
        "stopped",
        "manual-not-started",
    ]
    if "ExecStart" in on_disk:
        gone += [
            "program-missing",
            "program-not-executable",
            "wrong-program-format",
            "path-missing",
            "config-rejected",
        ]
    if "WorkingDirectory" in on_disk:
        gone.append("workdir-missing")
    if "User" in on_disk or "Group" in on_disk:
        gone += ["account-missing", "access-denied"]
    return tuple(gone) if on_disk else ()
