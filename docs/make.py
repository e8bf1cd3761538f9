"""``make docs``: write what is made from the code: the snapshot's JSON Schema and a page for each family of causes."""

from __future__ import annotations

import inspect
import json
import re
from collections import Counter
from pathlib import Path
from typing import Any

from hollow_chain.causes import Rule, catalogue
from hollow_chain.facts.codec import schema
from hollow_chain.license.file import schema as license_schema
from hollow_chain.registering.wish import schema as service_schema
from hollow_chain.sources.hosts_file import schema as hosts_schema
from hollow_chain.wording.forms import forms, phrases_of, read

HERE = Path(__file__).parent
TESTS = HERE.parent / "tests"


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


def recorded_lines() -> list[str]:
    """Lines that real programs wrote on throwaway hosts: journals, and what was recorded of hosts with a fault."""
    lines = set((TESTS / "data/journal_lines.txt").read_text().splitlines())
    for path in (TESTS / "recorded").glob("*.json"):
        lines.update(fields.get("MESSAGE", "") for _, _, fields in json.loads(path.read_text())["events"])
    return sorted(lines)


def forms_page() -> str:
    """What log lines are read for, and which forms ever fired over the recorded journals."""
    lines = recorded_lines()
    fired = Counter(form for line in lines for form in {said.form.form for said in read(line).found})
    text = [
        "# Forms: what log lines say",
        "",
        f"Made by `make docs` from `wording/forms.json`. The last column counts over {len(lines)} different lines that real programs",
        "wrote on throwaway hosts; a form that never fired there rests on its examples alone.",
        "",
        "| a line says | form | phrases | examples | lines it fired on |",
        "|---|---|---|---|---|",
    ]
    for form in sorted(forms(), key=lambda one: one.says):
        examples = f"{len(form.reads)} read, {len(form.leaves)} left"
        many = fired[form.form] or "never"
        text.append(f"| {form.says} | {form.form} | {len(phrases_of(form))} | {examples} | {many} |")
    return "\n".join(text) + "\n"


def _even(made: Any) -> Any:
    """A schema whose descriptions are indented evenly: versions of msgspec take docstrings over with their indentation, or without."""
    if isinstance(made, dict):
        return {
            key: inspect.cleandoc(value) if key == "description" and isinstance(value, str) else _even(value)
            for key, value in made.items()
        }
    return [_even(one) for one in made] if isinstance(made, list) else made


def documents() -> dict[Path, str]:
    """Every made document by its path."""
    made = {HERE / "snapshot.schema.json": json.dumps(_even(schema()), indent=1) + "\n"}
    made[HERE / "license.schema.json"] = json.dumps(_even(license_schema()), indent=1) + "\n"
    made[HERE / "service.schema.json"] = json.dumps(_even(service_schema()), indent=1) + "\n"
    made[HERE / "hosts.schema.json"] = json.dumps(_even(hosts_schema()), indent=1) + "\n"
    made[HERE / "forms.md"] = forms_page()
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
