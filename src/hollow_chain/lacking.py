"""Packages that only single commands need, and that a plain install leaves out: the extras of ``pyproject.toml``."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from hollow_chain.trouble import wrong_call


@contextmanager
def needs(extra: str, what: str) -> Iterator[None]:
    """Around imports of *extra*, for *what*: where a package is not there, one line says how to get it."""
    try:
        yield
    except ModuleNotFoundError as error:
        if (error.name or "").startswith("hollow_chain"):
            raise
        raise wrong_call(
            f"{what} needs the Python package {error.name}, which is not installed: pip install 'hollow-chain[{extra}]'"
        ) from None
