"""The snapshot format: in and out, and every way in which bytes can be wrong."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path

import msgspec
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

from hollow_chain.facts import FORMAT, VERSION, Host, Link, Service, snapshot
from hollow_chain.facts.codec import MAX_YAML_BYTES, SnapshotError, decode, encode, schema
from tests.conftest import Run

GOOD = {"format": FORMAT, "version": VERSION, "hosts": [{"name": "h", "services": [{"name": "a"}]}]}


def changed(**changes: object) -> bytes:
    return json.dumps({**GOOD, **changes}).encode()


def with_service(**fields: object) -> bytes:
    return changed(hosts=[{"name": "h", "services": [{"name": "a", **fields}]}])


BAD = {
    "empty": (b"", "empty"),
    "blank": (b" \n\n", "empty"),
    "truncated": (json.dumps(GOOD).encode()[:-9], "ends too early"),
    "not JSON": (b'{"format": nope}', "line 1, column"),
    "binary": (bytes(range(256)) * 4, "binary"),
    "UTF-16": ("\ufeff{}".encode("utf-16"), "UTF-16"),
    "latin-1": (changed(written_by="x").replace(b'"x"', b'"\xe9\xe8"'), "UTF-8"),
    "latin-1 YAML": (b"format: \xe9\xe8\n", "UTF-8"),
    "a list": (b"[1, 2]", "object"),
    "a number": (b"42", "object"),
    "no format": (b'{"version": 1}', "format"),
    "another format": (changed(format="other/thing"), "other/thing"),
    "no version": (b'{"format": "hollow-chain/snapshot"}', "version"),
    "newer version": (changed(version=2), "up to version 1"),
    "newer version with unknown shapes": (changed(version=3, hosts={"a": 1}), "up to version 1"),
    "version of wrong type": (changed(version="one"), "version"),
    "version zero": (changed(version=0), "version"),
    "no hosts": (changed(hosts=[]), "no host"),
    "nameless host": (changed(hosts=[{"name": ""}]), "hosts[0].name"),
    "nameless service": (changed(hosts=[{"name": "h", "services": [{"name": ""}]}]), "services[0].name"),
    "host of wrong type": (changed(hosts=["h"]), "hosts[0]"),
    "state of wrong type": (with_service(state=5), "services[0].state"),
    "unknown state": (with_service(state="zombie"), "services[0].state"),
    "unknown link kind": (with_service(links=[{"to": "b", "kind": "iron"}]), "links[0].kind"),
    "link to nothing": (with_service(links=[{"kind": "hard"}]), "to"),
    "moment without a zone": (with_service(last={"started_at": "2026-03-04T06:12:09"}), "started_at"),
    "port out of range": (with_service(claims=[{"port": 70000}]), "port"),
    "huge duration": (with_service(limits={"start_seconds": 1e300}), "start_seconds"),
    "unknown manager": (changed(hosts=[{"name": "h", "manager": "other"}]), "manager"),
    "deep JSON": (b'{"a":' * 100_000 + b"1" + b"}" * 100_000, "deep"),
    "deep YAML": (b"[" * 5_000, ""),
    "YAML alias": (b"format: &a x\nversion: *a\n", "alias"),
    "YAML bomb": (b"a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n", "alias"),
    "YAML tag": (b"format: !!python/object:os.system x\n", ""),
    "broken YAML": (b"format: [1,\n", "line"),
    "huge YAML": (b"# " + b"x" * (MAX_YAML_BYTES + 1), "MiB"),
}


@pytest.mark.parametrize("name", BAD)
def test_bad_bytes_get_one_line_that_says_what_and_where(name: str) -> None:
    data, said = BAD[name]
    with pytest.raises(SnapshotError) as caught:
        decode(data)
    text = str(caught.value)
    assert said.lower() in text.lower()
    assert "\n" not in text
    assert len(text) < 300
    assert caught.value.status == 3


@pytest.mark.parametrize("name", ["truncated", "binary", "newer version", "deep JSON", "unknown state", "empty"])
def test_the_program_tells_bad_files_in_one_line(run: Run, tmp_path: Path, name: str) -> None:
    path = tmp_path / "bad.json"
    path.write_bytes(BAD[name][0])
    done = run("why", "a", "--from", path)
    assert done.status == 3
    assert done.out == ""
    assert len(done.err.splitlines()) == 1
    assert "bad.json" in done.err


def test_unknown_keys_are_ignored() -> None:
    found = decode(
        changed(moon="full", hosts=[{"name": "h", "tide": 3, "services": [{"name": "a", "mood": {"x": [1]}}]}])
    )
    assert found.hosts[0].services[0].name == "a"


def test_a_byte_order_mark_does_no_harm() -> None:
    assert decode(b"\xef\xbb\xbf" + json.dumps(GOOD).encode()).hosts[0].name == "h"


def test_yaml_and_json_say_the_same() -> None:
    moment = "2026-03-04T06:12:09Z"
    document = {**GOOD, "hosts": [{"name": "h", "read_at": moment, "services": [{"name": "a", "state": "running"}]}]}
    assert decode(yaml.safe_dump(document).encode()) == decode(json.dumps(document).encode())
    unquoted = yaml.safe_dump(document).replace(f"'{moment}'", moment)
    assert decode(unquoted.encode()).hosts[0].read_at == datetime(2026, 3, 4, 6, 12, 9, tzinfo=UTC)


def test_what_is_written_is_read_back() -> None:
    made = snapshot([Host(name="h", services=[Service(name="a", links=[Link(to="b", kind="soft")])])], "test")
    assert decode(encode(made)) == made
    assert json.loads(encode(made))["format"] == FORMAT


def test_the_published_schema_is_the_model() -> None:
    published = Path(__file__).parent.parent / "docs" / "snapshot.schema.json"
    assert json.loads(published.read_text()) == json.loads(json.dumps(schema())), "run 'make docs'"


@settings(max_examples=300, deadline=None)
@given(st.binary(max_size=400))
def test_any_bytes_are_a_snapshot_or_a_clear_line(data: bytes) -> None:
    try:
        decode(data)
    except SnapshotError as error:
        assert "\n" not in str(error)


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=8),
    lambda inner: (
        st.lists(inner, max_size=3)
        | st.dictionaries(
            st.sampled_from(["name", "services", "links", "state", "read_at", "to", "x", "last"]), inner, max_size=4
        )
    ),
    max_leaves=12,
)


@settings(max_examples=300, deadline=None)
@given(JSON, st.integers(0, 200))
def test_any_shape_is_a_snapshot_or_a_clear_line(value: object, cut: int) -> None:
    data = json.dumps({**GOOD, "hosts": [value]}).encode()
    for piece in (data, data[:-cut] if cut else data, yaml.safe_dump({**GOOD, "hosts": value}).encode()):
        try:
            decode(piece)
        except SnapshotError as error:
            assert "\n" not in str(error)


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_a_flipped_byte_never_breaks_the_reader(data: st.DataObject) -> None:
    made = bytearray(encode(snapshot([Host(name="h", services=[Service(name="a", links=[Link(to="b")])])])))
    made[data.draw(st.integers(0, len(made) - 1))] = data.draw(st.integers(0, 255))
    try:
        found = decode(bytes(made))
    except SnapshotError:
        return
    assert msgspec.to_builtins(found)["version"] == 1
