"""``make docs``: write what is made from the code: the snapshot's JSON Schema and a page for each family of causes."""

from __future__ import annotations

import inspect
import json
import re
from pathlib import Path

from hollow_chain.causes import Rule, catalogue
from hollow_chain.facts.codec import schema
from hollow_chain.license.file import schema as license_schema

HERE = Path(__file__).parent


def page(family: str, rules: list[Rule]) -> str:
    """The page of one family, from the docstrings of its rules."""
    text = [f"# Causes: {family}", "", "Made by `make docs` from the rules' own documentation.", ""]
    for rule in rules:
        text += [f"## `{rule.cause}`", ""]
        for line in inspect.cleandoc(rule.documentation).splitlines():
            found = re.match(r"(Looks at|Convinced by|Against|Mend): (.*)", line)
            text.append(
                f"- **{found[1]}:** {found[2]}"
                if found
                else f"  {line}"
                if text[-1].startswith(("- ", "  ")) and line
                else line
            )
        text.append("")
    return "\n".join(text).rstrip() + "\n"


def documents() -> dict[Path, str]:
    """Every made document by its path."""
    made = {HERE / "snapshot.schema.json": json.dumps(schema(), indent=1) + "\n"}
    made[HERE / "license.schema.json"] = json.dumps(license_schema(), indent=1) + "\n"
    families: dict[str, list[Rule]] = {}
    for rule in catalogue():
        families.setdefault(rule.family, []).append(rule)
    for family, rules in families.items():
        made[HERE / "causes" / f"{family}.md"] = page(family, rules)
    return made


if __name__ == "__main__":
    for path, text in documents().items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(text)
