"""The command line. Each module of this package that defines ``register`` is a command (or a group of them)."""

from __future__ import annotations

import contextlib
import errno
import gc
import os
import pkgutil
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from hollow_chain.trouble import CALL_IS_WRONG, FACTS_UNREADABLE, INTERRUPTED, Trouble

_SHARED = frozenset(
    {
        "chair",
        "common",
        "finding",
        "asking",
        "carrying_out",
        "changing",
        "completing",
        "fleeting",
        "observing",
        "plain_values",
        "ticketing",
        "watching",
    }
)
_ABOUT = (
    "Why will this service not start? Follows the dependency graph down from what you ask about, "
    "and names the one link that does not hold, with evidence, and what mends it."
)
_EXITS = (
    "Exit status: 0 all is well, 1 something is wrong and was named, 2 the call is wrong, "
    "3 facts could not be read, 4 a mend did not hold."
)


def main(arguments: Sequence[str] | None = None) -> None:
    """Run the program and exit with its status."""
    # A call is over in a moment, and what it builds it needs to its end: collecting garbage only costs time.
    gc.disable()
    words = list(sys.argv[1:] if arguments is None else arguments)
    status = run(words)
    # At its end the interpreter looks through everything for garbage, frozen things excepted: a sixth of a capture.
    gc.freeze()
    sys.exit(status)


def run(words: list[str]) -> int:
    """Run one call; the exit status is returned, troubles are told in one line on standard error."""
    if sys.stderr is None:
        sys.stderr = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115 - it lives as long as the program
    if sys.stdout is None:  # closed by whoever called
        sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115 - as before
        _tell("standard output is closed: nothing can be shown")
        return FACTS_UNREADABLE
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    try:
        status = _dispatch(words)
        sys.stdout.flush()
        return status
    except Trouble as trouble:
        _tell(str(trouble), trouble.rows)
        return trouble.status
    except RecursionError:
        _tell("the facts are nested too deeply")
        return FACTS_UNREADABLE
    except KeyboardInterrupt:
        _tell("interrupted; nothing was changed")
        return INTERRUPTED
    except BrokenPipeError:
        return _unread()
    except OSError as error:
        if error.filename is not None or not _is_of_the_output(error):
            return _is_own_fault(error)
        _tell(f"cannot write to standard output: {error.strerror}")
        _let_go_of_output()
        return FACTS_UNREADABLE
    except Exception as error:
        return _is_own_fault(error)


def _is_own_fault(error: Exception) -> int:
    if _is_of_a_closed_pipe(error):
        return _unread()
    if os.environ.get("HOLLOW_CHAIN_TRACE"):
        raise error
    _tell(f"this is a fault of the program itself ({type(error).__name__}: {error}); HOLLOW_CHAIN_TRACE=1 shows where")
    return FACTS_UNREADABLE


_OF_OUTPUT = (errno.ENOSPC, errno.EDQUOT, errno.EIO, errno.EBADF, errno.EFBIG)


def _is_of_the_output(error: OSError) -> bool:
    """Whether what is written down could not be: no file was named, so that it is the stream."""
    return error.errno in _OF_OUTPUT


def _let_go_of_output() -> None:
    """What is left in the buffer must not be tried again at exit."""
    with contextlib.suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _unread() -> int:
    """The reader has seen enough; what is left in the buffer must not be tried again at exit."""
    _let_go_of_output()
    return 0


def _is_of_a_closed_pipe(error: Exception) -> bool:
    """Whether Win32 says in its own way that nobody reads any more: its C library has no other number for that."""
    of_a_stream = isinstance(error, OSError) and error.errno == errno.EINVAL and error.filename is None
    return os.name == "nt" and of_a_stream


def _tell(text: str, rows: Sequence[str] = ()) -> None:
    from hollow_chain.show.clean import clean

    print(f"hollow-chain: {clean(text, 1000)}", file=sys.stderr)  # noqa: T201
    for row in rows:
        print(f"  {clean(row, 200)}", file=sys.stderr)  # noqa: T201


def _dispatch(words: list[str]) -> int:
    return _call(command_of(words), words)


def command_of(words: Sequence[str] = ()) -> Any:
    """The command of click that takes a call; without words, the one that knows every command."""
    import typer

    from hollow_chain.cli import completing, plain_values

    plain_values.install()
    names = sorted(found.name for found in pkgutil.iter_modules(__path__) if found.name not in _SHARED)
    asked = next((word for word in (words or completing.typed_words()) if not word.startswith("-")), "")
    app = typer.Typer(
        name="hollow-chain",
        help=_ABOUT,
        epilog=_EXITS,
        add_completion=True,
        pretty_exceptions_enable=False,
        context_settings={"help_option_names": ["-h", "--help"]},
    )

    def root(
        version: bool = typer.Option(
            False, "--version", is_eager=True, callback=_print_version, help="Print the version."
        ),
    ) -> None:
        """Options of the program itself."""

    app.callback(help=_ABOUT)(root)
    # A call pays for the import of its own command only.
    for name in [asked] if asked in names else names:
        __import__(f"{__name__}.{name}", fromlist=["register"]).register(app)
    _explain(app)
    command: Any = typer.main.get_command(app)
    command.commands = dict(sorted(command.commands.items(), key=lambda item: _place(item[0])))
    return command


EXAMPLES = {
    "roster": "roster kiosk",
    "why": "why nginx   |   why --all   |   why kiosk --from facts/ --says 'error 1068'   |   why kiosk --from ssh://gate-03",
    "about": "about nginx   |   about kiosk --from facts/ --json",
    "links": "links postgresql --depth 2   |   links nginx --out chain.svg",
    "ports": "ports 8080   |   ports --clashes",
    "changes": "changes --since 2h   |   changes nginx   |   changes --between before.json after.json",
    "decode": "decode 1068   |   decode 'bind: address already in use'",
    "observe": "observe redis",
    "rehearse": "rehearse   |   rehearse nginx redis --runs 200",
    "suppose": "suppose 'startup nginx disabled'",
    "mend": "mend nginx   |   mend nginx --apply   |   mend --undo",
    "register": "register /opt/tide/display --port 8080 --account tide",
    "unregister": "unregister tide-display",
    "case": "case list   |   case show 3   |   case confirm 3",
    "capture": "capture --out host.json   |   capture --from hosts.toml --out facts/   |   capture --from hosts.toml --keep readings/",
    "keep": "keep readings/   |   keep readings/ --thin 90d   |   keep readings/ --index",
    "hosts": "hosts check hosts.toml",
    "survey": "survey --from readings/   |   survey kiosk --from hosts.toml --unwell   |   survey --from readings/ --since 2h --by group",
    "drift": "drift quay-01 --from readings/   |   drift quay-01 --from readings/ --against quay-02",
    "license": "license check license.toml   |   license ask 7171",
    "lab": "lab make host --from office-01.json   |   lab boot host",
    "demo": "demo",
}
"""The commands in the order of the work, with a call of each that somebody could type."""


def _place(name: str) -> int:
    return list(EXAMPLES).index(name) if name in EXAMPLES else len(EXAMPLES)


def _explain(app: Any) -> None:
    for one in app.registered_commands:
        if one.name in EXAMPLES:
            one.epilog = _example(one.name)
    for one in app.registered_groups:
        if one.name in EXAMPLES or one.typer_instance.info.name in EXAMPLES:
            one.epilog = _example(one.name or one.typer_instance.info.name)


def _example(name: str) -> str:
    calls = [f"hollow-chain {call.strip()}" for call in EXAMPLES[name].split("|")]
    return f"Example{'s' if len(calls) > 1 else ''}: {'; '.join(calls)}"


def _print_version(asked: bool) -> None:
    if asked:
        from typer import Exit

        from hollow_chain import __version__

        print(f"hollow-chain {__version__}")  # noqa: T201
        raise Exit


def _call(command: Any, words: list[str]) -> int:
    import typer

    click_error: Any = typer.BadParameter.__mro__[2]
    try:
        result = command.main(args=words or ["--help"], prog_name="hollow-chain", standalone_mode=False)
    except click_error as error:
        where = getattr(getattr(error, "ctx", None), "command_path", None) or "hollow-chain"
        # Only one command takes words that are another program's.
        own = "; options of PROGRAM itself go behind '--'" if where.endswith(" register") else ""
        _tell(f"{' '.join(error.format_message().split()).rstrip('.')}{own}; see '{where} --help'")
        return CALL_IS_WRONG
    except typer.Exit as leave:
        return leave.exit_code
    except typer.Abort:
        raise KeyboardInterrupt from None
    return (result if isinstance(result, int) else 0) if words else CALL_IS_WRONG
