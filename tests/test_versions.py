"""Which versions there are on a host: packages from the lists of their managers, definitions and settings by digests of their texts."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, cast

import pytest

from hollow_chain.facts.host import Host
from hollow_chain.reach.control import Declined, Key
from hollow_chain.reach.handles import Walker
from hollow_chain.sources.control import installed
from hollow_chain.sources.versions import _readable, apk_packages, digest_of, dpkg_packages, is_set

DPKG = """Package: tide-board
Status: install ok installed
Priority: optional
Description: shows the tide
 Package: not this one
Version: 2.2-1

Package: old-board
Status: deinstall ok config-files
Version: 1.0

Package: half
Status: install reinstreq half-installed
Version: 3

Package: plain
Status: hold ok installed
Version: 1:0.9~rc1

Version: 7
"""
APK = "C:Q1abc=\nP:musl\nV:1.2.4-r2\nA:x86_64\n\nP:busybox\nV:1.36\n\nV:9\n"


def test_what_dpkg_and_apk_list_is_read() -> None:
    assert [(one.name, one.version) for one in dpkg_packages(DPKG)] == [("tide-board", "2.2-1"), ("plain", "1:0.9~rc1")]
    assert [(one.name, one.version) for one in apk_packages(APK)] == [("musl", "1.2.4-r2"), ("busybox", "1.36")]
    assert not list(dpkg_packages("")) and not list(apk_packages("\n\n"))


def test_lists_of_any_length_take_time_in_proportion() -> None:
    many = "\n\n".join(
        f"Package: p{number}\nStatus: install ok installed\nVersion: {number}" for number in range(20_000)
    )
    assert sum(1 for _ in dpkg_packages(many)) == 20_000


def test_digests_tell_texts_apart_and_no_secret() -> None:
    assert digest_of(b"a = 1\n") == digest_of(b"a = 1\n") != digest_of(b"a = 2\n") and len(digest_of(b"")) == 16
    one, other = (f"listen = 80\npassword = {secret}\n".encode() for secret in ("Hunter22!x", "s3cr3t-Other"))
    assert digest_of(one) == digest_of(other), "whoever has the digest cannot try passwords on it"
    assert digest_of(b"\0\1") != digest_of(b"\0\2") and digest_of(b"\xff\xfe text")


@pytest.mark.skipif(os.name == "nt", reason="modes of POSIX")
def test_only_what_every_account_may_read_is_looked_into(tmp_path: Path) -> None:
    cases = {"open": (0o644, b"x", True), "closed": (0o640, b"x", False), "empty": (0o644, b"", False),
             "large": (0o644, b"x" * 300_000, False)}  # fmt: skip
    with Walker() as walker:
        for name, (mode, data, read) in cases.items():
            path = tmp_path / name
            path.write_bytes(data)
            path.chmod(mode)
            assert (_readable(walker, str(path)) is not None) is read, name
        os.mkfifo(tmp_path / "pipe")
        assert _readable(walker, str(tmp_path / "pipe")) is None and _readable(walker, str(tmp_path / "none")) is None


def test_what_services_write_as_they_run_is_no_setting() -> None:
    assert is_set("/etc/tide.conf") and is_set("/opt/tide/tide.ini")
    assert not any(map(is_set, ("/var/lib/tide/state", "/run/tide.pid", "relative", "/etc/x\0y", "")))


class Registry:
    """A registry with two installed programs, one key that is refused, and one without a name to show."""

    def expect(self, paths: Any) -> None:
        """Nothing is asked for beforehand."""

    def key(self, path: str) -> Key:
        """One key."""
        place, _, name = path.rpartition("\\")
        if name == "Uninstall" and "WOW6432Node" not in path:
            return Key({}, ["TideBoard", "{12AB}", "closed"], None)
        if name == "TideBoard":
            return Key({"displayname": ("Tide Board", 1), "displayversion": ("2.2", 1)}, [], None)
        if name == "{12AB}":
            return Key({"displayversion": (7, 4)}, [], None)
        raise Declined(5, f"{place} refused")


def test_what_installers_registered_is_read() -> None:
    class Reading:
        """As much of a reading as it takes."""

        host = Host(name="h", manager="control-manager")
        reached = type("Reached", (), {"registry": Registry()})()

    reading = Reading()
    installed.add(cast(Any, reading))
    assert [(one.name, one.version) for one in reading.host.packages] == [("Tide Board", "2.2"), ("{12AB}", "")]
