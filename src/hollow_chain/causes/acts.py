"""What a machine can do for a mend, as data: a rule proposes acts, and knows nothing of how they are carried out.

The verbs are words that no service manager owns; what each means in the two families, what it costs and how it is taken
back stands in ``mend/verbs.py``.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from hollow_chain.facts.service import Service


LONGEST = 1e6
"""Seconds; a longer start limit is none."""


class Act(NamedTuple):
    """One act: a verb, what it is done to (a service or a path), and the new value where there is one."""

    verb: str
    service: str = ""
    path: str = ""
    value: str = ""


def start(service: str) -> Act:
    """Start it (a bar for too many starts is cleared first)."""
    return Act("start", service)


def restart(service: str) -> Act:
    """Stop it and start it again."""
    return Act("restart", service)


def resume(service: str) -> Act:
    """Have it go on, where it is paused."""
    return Act("continue", service)


def pause(service: str) -> Act:
    """Have it pause."""
    return Act("pause", service)


def account(service: str, user: str) -> Act:
    """Have it run under another account, one of those that need no password."""
    return Act("account", service, value=user)


def recovery(service: str, actions: list[str]) -> Act:
    """Set what the manager does after its first, second and later failures, each as :attr:`Service.failure_actions` has it."""
    return Act("recovery", service, value="; ".join(actions))


def renew(service: str) -> Act:
    """Have the running program read its own configuration anew."""
    return Act("renew", service)


def reload(service: str) -> Act:
    """Have the manager read its definitions anew, that of *service* among them."""
    return Act("reload", service)


def startup(service: str, kind: str) -> Act:
    """Give it the startup type *kind*; this ends that nobody can start it."""
    return Act("startup", service, value=kind)


def limit(service: str, seconds: float) -> Act:
    """Set its start limit; the one limit of the host where *service* is empty."""
    value = f"{min(seconds, LONGEST):.3f}".rstrip("0").rstrip(".")
    return Act("limit", service, value=value)


def wait(service: str, other: str) -> Act:
    """Let it need *other*, and start after it."""
    return Act("wait", service, value=other)


def allow(service: str, setting: str) -> Act:
    """Give it one right in its definition, as ``Name=value``."""
    return Act("allow", service, value=setting)


def reboot() -> Act:
    """Boot the host anew."""
    return Act("reboot")


def mode(path: str, bits: int) -> Act:
    """Set the permission bits of a path."""
    return Act("mode", path=path, value=f"{bits:04o}")


def owner(path: str, user: str, group: str) -> Act:
    """Set owner and group of a path."""
    return Act("owner", path=path, value=f"{user}:{group}")


def owners(path: str, user: str, group: str) -> Act:
    """Give a folder, and all in it that is root's, to *user* and *group*."""
    return Act("owners", path=path, value=f"{user}:{group}")


def folder(path: str, user: str, group: str) -> Act:
    """Make a folder, with all that is missing above it; that one belongs to *user* and *group*."""
    return Act("folder", path=path, value=f"{user}:{group}")


def remove(path: str) -> Act:
    """Remove a left-over file."""
    return Act("remove", path=path)


def moved(service: str, port: int) -> Act:
    """Have it listen on another port. No machine does this: it is what a person is taken to have done."""
    return Act("port", service, value=str(port))


def give_way(holder: Service | None) -> tuple[Act, ...]:
    """Stop a service that has what another needs, and keep it from coming back; none where the holder is no service."""
    if holder is None:
        return ()
    kept_away = (startup(holder.name, "manual"),) if holder.startup in ("automatic", "delayed") else ()
    return (*kept_away, Act("stop", holder.name))
