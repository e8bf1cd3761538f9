"""Words of a command line into plain values, without a validation package.

From version 0.29 on Typer hands every value of a call to such a package (its import takes twice as long as all that ``--version`` needs:
0.42 s against 0.20 s here). Texts, numbers, paths and words of a choice need none of it. Where Typer has no such place, or a type is
none of these, nothing is changed.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, NamedTuple, get_args, get_origin

_Convert = Callable[[str], Any]
_YES = ("1", "true", "t", "yes", "y", "on")
_NO = ("0", "false", "f", "no", "n", "off", "")


def install() -> None:
    """Have the values of calls converted here, as far as they are plain."""
    from typer import core

    typers_own = getattr(core, "build_runtime_param", None)
    if typers_own is None or getattr(typers_own, "is_plain", False):
        return

    def chosen(descriptor: Any) -> Any:
        convert = _converter(getattr(descriptor, "annotation", None), getattr(descriptor, "parameter_info", None))
        return typers_own(descriptor) if convert is None else PlainValue(convert)

    chosen.is_plain = True  # type: ignore[attr-defined]
    core.build_runtime_param = chosen  # type: ignore[attr-defined]


class PlainValue(NamedTuple):
    """Converts the value of one parameter, as Typer asks for it."""

    convert: _Convert

    def coerce(self, value: Any, param: Any, ctx: Any) -> Any:
        """The value; raises ``BadParameter`` where it is none."""
        several = param.multiple or param.nargs == -1
        if value is None:
            return () if several else None
        try:
            return self.convert(value)
        except ValueError as error:
            from typer import BadParameter

            raise BadParameter(str(error), ctx=ctx, param=param) from None


def _converter(kind: Any, about: Any) -> _Convert | None:
    """What makes a value of a type; None for types that are not plain."""
    if about is None or getattr(about, "parser", None) is not None:
        return None
    origin, parts = get_origin(kind), get_args(kind)
    if origin is list and len(parts) == 1:
        one = _converter(parts[0], about)
        return None if one is None else lambda values: [one(value) for value in values]
    if origin is tuple:
        each = [_converter(part, about) for part in parts]
        if None in each:
            return None
        return lambda values: tuple(one(value) for one, value in zip(each, values, strict=True) if one is not None)
    if origin is Literal:
        return lambda value: _one_of(value, parts)
    if kind in (int, float):
        return lambda value: _number(value, kind, about.min, about.max)
    plain: dict[Any, _Convert] = {str: str, Path: Path, bool: _flag}
    return plain.get(kind)


def _one_of(value: Any, words: tuple[Any, ...]) -> Any:
    if value in words:
        return value
    raise ValueError(f"{value!r} is not one of {', '.join(map(repr, words))}.")


def _number(value: Any, kind: type, least: float | None, most: float | None) -> Any:
    try:
        found = kind(value)
    except ValueError:
        raise ValueError(f"{value!r} is not a valid {'integer' if kind is int else 'number'}.") from None
    low, high = least is not None and found < least, most is not None and found > most
    if low or high or found != found:
        bounds = f"{'' if least is None else f'{least}<='}x{'' if most is None else f'<={most}'}"
        raise ValueError(f"{value} is not in the range {bounds}.")
    return found


def _flag(value: Any) -> bool:
    if isinstance(value, bool):
        return value
    word = str(value).strip().casefold()
    if word in _YES or word in _NO:
        return word in _YES
    raise ValueError(f"{value!r} is not a valid boolean.")
