"""The command line. Each module of this package that defines ``register`` is a command (or a group of them)."""

from __future__ import annotations

import errno
import gc
import os
import pkgutil
import sys
from collections.abc import Sequence
from typing import Any

from hollow_chain.trouble import CALL_IS_WRONG, FACTS_UNREADABLE, INTERRUPTED, Trouble

_SHARED = frozenset({"common", "finding", "asking", "changing", "observing"})
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
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    try:
        return _dispatch(words)
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
    except Exception as error:
        if _is_of_a_closed_pipe(error):
            return _unread()
        if os.environ.get("HOLLOW_CHAIN_TRACE"):
            raise
        _tell(
            f"this is a fault of the program itself ({type(error).__name__}: {error}); HOLLOW_CHAIN_TRACE=1 shows where"
        )
        return FACTS_UNREADABLE


def _unread() -> int:
    """The reader has seen enough; what is left in the buffer must not be tried again at exit."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
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
    import typer

    names = sorted(found.name for found in pkgutil.iter_modules(__path__) if found.name not in _SHARED)
    asked = next((word for word in words if not word.startswith("-")), "")
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
    return _call(typer.main.get_command(app), words)


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
