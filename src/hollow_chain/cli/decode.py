"""``decode WORDS``: what an error number or message says."""

from __future__ import annotations

from typing import Annotated

import typer

from hollow_chain.cli import common
from hollow_chain.trouble import wrong_call


def register(app: typer.Typer) -> None:
    """Add the command."""
    app.command("decode", context_settings={"ignore_unknown_options": True})(decode)


def decode(
    words: Annotated[
        list[str],
        typer.Argument(
            help="A number (decimal, 0x form), an errno name, a result, or a whole sentence.", show_default=False
        ),
    ],
    json: common.Json = False,
) -> int:
    """Say what an error number or message means, where it comes from, and which causes fit it, best first.

    Exit status 0 if something in WORDS is known, 1 if nothing is.
    """
    text = " ".join(words)
    if not text.strip():
        raise wrong_call("nothing to decode; give a number or a message")

    from hollow_chain.causes.meanings import nearest, read

    readings = read(text)
    if json:
        from hollow_chain.show.documents import decoded_document, to_json

        common.put(to_json(decoded_document(text, readings)))
        return 0 if readings else 1
    from hollow_chain.show.clean import clean
    from hollow_chain.show.page import Page

    page = Page()
    if not readings:
        near = nearest(text)
        page.line(f"Nothing in {clean(text, 200)!r} is known here.")
        page.line(
            f"The nearest known numbers are {', '.join(near)}."
            if near
            else "Give the number, or the message word by word."
        )
        return 1
    for number, reading in enumerate(readings[:6]):
        if number:
            page.gap()
        page.line((reading.what, "bold"), (f"  {reading.source}", "dim"))
        page.line(reading.means, indent=3)
        if reading.causes:
            page.line(f"causes that fit, best first: {', '.join(reading.causes)}", indent=3, hang=2)
        if reading.mixed_up:
            page.line((f"often mixed up with {reading.mixed_up}", "dim"), indent=3, hang=2)
    return 0
