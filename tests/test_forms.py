"""What log lines say: every form reads its examples and leaves what is near them; places, endpoints and names are found; no text,
however it is made, takes more steps than its length allows."""

from __future__ import annotations

import sys
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hollow_chain.wording import forms, last_words, lines, things
from hollow_chain.wording.forms import Form
from hollow_chain.wording.other_languages import _table
from hollow_chain.wording.system_errors import spelled

FORMS = forms.forms()


@pytest.mark.parametrize("form", FORMS, ids=[form.form for form in FORMS])
def test_a_form_reads_its_examples_and_leaves_the_others(form: Form) -> None:
    def found(text: str) -> bool:
        return form.form in {said.form.form for said in forms.read(text).found}

    assert form.reads and [text for text in form.reads if not found(text)] == []
    assert form.leaves and [text for text in form.leaves if found(text)] == []


@pytest.mark.parametrize("form", FORMS, ids=[form.form for form in FORMS])
def test_a_phrase_begins_with_a_word_and_has_one_gap_at_most(form: Form) -> None:
    for phrase in forms.phrases_of(form):
        steps = [forms._step(element) for element in phrase.split()]
        first = steps[1] if steps[0].slot else steps[0]
        assert first.words and not first.optional and not steps[-1].reach, phrase
        assert sum(bool(step.reach) for step in steps) <= 1, phrase
        assert phrase == phrase.lower(), phrase


def test_no_two_forms_have_one_name_and_no_phrase_stands_twice_in_one() -> None:
    assert len({form.form for form in FORMS}) == len(FORMS)
    for form in FORMS:
        phrases = forms.phrases_of(form)
        assert len(set(phrases)) == len(phrases), form.form


def test_an_error_is_known_by_its_name_its_text_and_its_number() -> None:
    assert spelled("EACCES") == ["EACCES", "Permission denied", "errno 13", "os error 13"]
    assert "winerror 5" in spelled("ERROR_ACCESS_DENIED") and "error 10048" in spelled("WSAEADDRINUSE")
    with pytest.raises(KeyError):
        spelled("ENOSUCHTHING")
    for text in (
        "x: EACCES",
        "x: Permission denied",
        "[Errno 13] x",
        "x (os error 13)",
        "[WinError 5] x",
        "x: Access is denied.",
    ):
        assert forms.says(text, "denied"), text


LINES_IN_FILES = {
    "syntax error in /etc/a.conf:12": ("/etc/a.conf", 12),
    "/etc/a.conf, line 7: unknown option": ("/etc/a.conf", 7),
    "Syntax error on line 3 of /etc/a.conf:": ("/etc/a.conf", 3),
    "parsing [/etc/a.cfg:36] : unknown keyword 'x'": ("/etc/a.cfg", 36),
    "line 4 in file '/etc/a.conf'": ("/etc/a.conf", 4),
    "error in '/etc/a.conf' on line 9": ("/etc/a.conf", 9),
    "ferry.ini:3: no section": ("ferry.ini", 3),
    "D:\\Ferry\\plan.ini(14): bad key": ("D:\\Ferry\\plan.ini", 14),
    "see /etc/a.conf(5) for more": None,
    "/srv/plan.toml(3,9): unexpected end": ("/srv/plan.toml", 3),
    "D:\\Ferry\\plan.ini:14: bad key": ("D:\\Ferry\\plan.ini", 14),
    "http://office-01/a:80": None,
    "connected to 10.0.0.1:80": None,
    "at line 5": None,
}


@pytest.mark.parametrize("text", LINES_IN_FILES)
def test_a_place_in_a_file(text: str) -> None:
    assert things.place_in(text) == LINES_IN_FILES[text]


@pytest.mark.parametrize(
    ("text", "host"),
    [
        ("dial tcp: lookup broker-02: no such host", "broker-02"),
        ("broker-02: Name or service not known", "broker-02"),
        ("could not translate host name \"store-9\" to address", "store-9"),
        ("connect to 10.9.9.9 port 80: No route to host", "10.9.9.9"),
        ("getaddrinfo ENOTFOUND broker-02", "broker-02"),
        ("could not connect to the server", ""),
        ("unknown host", ""),
    ],
)  # fmt: skip
def test_the_host_that_a_line_names(text: str, host: str) -> None:
    assert lines.host_in(text) == host


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("Aborting.", False),
        ("2026-03-04 05:00:00 [error] a: failed", False),
        ("a: exiting", False),
        ("/etc/a.conf: failed", True),
        ("bind: permission denied, aborting", True),
        ("the plan for today failed", True),
    ],
)
def test_a_line_that_only_says_that_it_ends_tells_nothing(text: str, says: bool) -> None:
    assert last_words._only_ends(text) is not says


def steps_of(text: str) -> int:
    """How often anything of ours is called to read *text*."""
    calls = 0

    def count(frame: Any, event: str, arg: Any) -> None:
        nonlocal calls
        calls += event == "call" and "wording" in frame.f_code.co_filename

    forms._by_first_word()
    sys.setprofile(count)
    try:
        list(forms._found(text))
    finally:
        sys.setprofile(None)
    return calls


HOSTILE = ["failed to ", "error ", "unable ", "/a", "a:", "user ", "no such host ", "' ", "x" * 40, "cannot find user ", "[::1]:", "can't ",
           "C:\\", "unknown ~ ", "..", "missing option value ", "failed failed failed open "]  # fmt: skip


@pytest.mark.parametrize("piece", HOSTILE)
def test_steps_grow_with_the_length_of_a_line_and_no_faster(piece: str) -> None:
    for many in (100, 800):
        assert steps_of(piece * many) <= 8 * len(piece * many)


@given(st.lists(st.sampled_from([*HOSTILE, *(text for form in FORMS for text in form.reads)]), max_size=6).map("".join))
def test_what_is_found_lies_in_the_line(text: str) -> None:
    for said in forms.read(text).found:
        assert 0 <= said.start < said.end <= len(text)
        assert all(value in text for _, value in said.named)


@given(st.text(max_size=200))
def test_any_text_is_read(text: str) -> None:
    forms.read(text)
    things.place_in(text)
    lines.host_in(text)
    lines.process_in(text)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("cat: /srv/quay/plan: Datei oder Verzeichnis nicht gefunden", "missing"),
        ("bind() auf 0.0.0.0:80: Die Adresse wird bereits verwendet", "in use"),
        ("/usr/local/bin/quai: ligne 3: /var/lib/quai/plan: Permission non accordée", "denied"),
        ("не удалось открыть /srv/причал: Нет такого файла или каталога", "missing"),
        ("无法打开 /srv/quay/plan: 没有那个文件或目录", "missing"),
        ("connect 192.0.2.7:5432: Conexión rehusada", "unreached"),
        ("touch: /srv/kai/x: Das Dateisystem ist nur lesbar", "read only"),
    ],
)
def test_what_the_c_library_says_in_another_language_is_read(text: str, says: str) -> None:
    assert says in forms.read(text).says


def test_every_error_in_another_language_is_one_that_a_form_knows() -> None:
    known = {name for form in FORMS for name in form.errors}
    told = {name for rows in _table().by_first_word.values() for name, _ in rows}
    assert told and told <= known
