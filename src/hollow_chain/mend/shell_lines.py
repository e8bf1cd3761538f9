"""The lines that a person types on a systemd host for what a machine would do, quoted for a shell of POSIX (sh(1)).

What takes something away, or ends what others use, is never given without the words that say so.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from shlex import quote
from typing import NamedTuple

from hollow_chain.causes.acts import Act
from hollow_chain.facts.host import Host
from hollow_chain.families import family_of
from hollow_chain.mend.plan import Step

_OWN = "/etc/systemd/system"
_FILE = "zz-by-hand.conf"
"""The last word of all drop-in files is the one that holds (systemd.unit(5))."""


class ShellLine(NamedTuple):
    """A line to type, or a remark before one."""

    text: str
    remark: bool = False


def shell_lines(step: Step, host: Host | None) -> list[ShellLine]:
    """The lines for one step; none where a machine does nothing for it, or the host is none of systemd's."""
    if step.act is None or host is None or not family_of(host).defined_in_files:
        return []
    make = _LINES.get(step.act.verb)
    if make is None:
        return []
    remarks = [ShellLine(text, True) for text in _remarks(step)]
    return [*remarks, *map(ShellLine, (*_reset(step), *make(step.act)))]


def _remarks(step: Step) -> Iterator[str]:
    act = step.act
    if act is not None and act.verb == "remove":
        yield f"this removes a file for good; look first whether anything uses it: ls -l -- {quote(act.path)}"
    if act is not None and act.verb == "reboot":
        yield "this ends all that runs on the host"
    if act is not None and act.verb == "owners":
        yield f"this changes all that is root's below {quote(act.path)}"
    if step.choice or step.interrupts:
        names = ", ".join(dict.fromkeys((*step.interrupts, *((step.choice,) if step.choice else ()))))
        yield f"this interrupts {names}"


def _control(word: str) -> Callable[[Act], list[str]]:
    return lambda act: [f"systemctl {word} {_unit(act.service)}"]


def _unit(name: str) -> str:
    return f"-- {quote(name)}" if name.startswith("-") else quote(name)


def _reset(step: Step) -> list[str]:
    """A start limit that was hit, and a failure, bar a start until they are forgotten. A unit that is not loaded cannot be reset."""
    failed = step.act is not None and step.act.verb == "start" and step.old != "stopped"
    return [f"systemctl reset-failed {_unit(step.act.service)}"] if step.act is not None and failed else []


_STARTUP = {"automatic": ("unmask", "enable"), "manual": ("unmask", "disable"), "disabled": ("mask",)}


def _startup(act: Act) -> list[str]:
    return [f"systemctl {word} {_unit(act.service)}" for word in _STARTUP.get(act.value, ("enable",))]


def _laid_over(folder: str, lines: list[str]) -> list[str]:
    """A file of settings laid over a definition, and read by the manager."""
    path = f"{folder}/{_FILE}"
    words = " ".join(quote(line) for line in lines)
    return [f"mkdir -p -- {quote(folder)}", f"printf '%s\\n' {words} >> {quote(path)}", "systemctl daemon-reload"]


def _limit(act: Act) -> list[str]:
    if not act.service:
        return _laid_over("/etc/systemd/system.conf.d", ["[Manager]", f"DefaultTimeoutStartSec={act.value}"])
    return _laid_over(f"{_OWN}/{act.service}.d", ["[Service]", f"TimeoutStartSec={act.value}"])


def _wait(act: Act) -> list[str]:
    return _laid_over(f"{_OWN}/{act.service}.d", ["[Unit]", f"Requires={act.value}", f"After={act.value}"])


def _allow(act: Act) -> list[str]:
    return _laid_over(f"{_OWN}/{act.service}.d", ["[Service]", act.value])


def _owner(act: Act) -> list[str]:
    return [f"chown -- {quote(act.value)} {quote(act.path)}"]


def _owners(act: Act) -> list[str]:
    return [f"find {quote(act.path)} -xdev -user root -exec chown -h -- {quote(act.value)} '{{}}' +"]


def _folder(act: Act) -> list[str]:
    user, _, group = act.value.partition(":")
    return [f"install -d -o {quote(user)} -g {quote(group)} -- {quote(act.path)}"]


_LINES: dict[str, Callable[[Act], list[str]]] = {
    "start": _control("start"),
    "restart": _control("restart"),
    "stop": _control("stop"),
    "renew": _control("reload"),
    "reload": lambda act: ["systemctl daemon-reload"],
    "startup": _startup,
    "limit": _limit,
    "wait": _wait,
    "allow": _allow,
    "mode": lambda act: [f"chmod {quote(act.value)} -- {quote(act.path)}"],
    "owner": _owner,
    "owners": _owners,
    "folder": _folder,
    "remove": lambda act: [f"rm -- {quote(act.path)}"],
    "reboot": lambda act: ["systemctl reboot"],
}
"""By verb (systemctl(1), chmod(1), chown(1), install(1))."""
