"""Faults and healthy states of a host of the control-manager family, as data: what is done, what is asked about, what is right."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

B = r"C:\opt\berth.exe"
KEYS = r"SYSTEM\CurrentControlSet\Services"
AUTOMATIC, MANUAL, DISABLED = 2, 3, 4
SHARED, NUMBER, TEXT, LONG_TEXT, TEXTS, BYTES = 0x20, 4, 1, 2, 7, 3
START_NOW = bytes.fromhex("01000000")
Act = list[Any]


def made(
    name: str, words: str = "", start: int = AUTOMATIC, needs: tuple[str, ...] = (), program: str = B, **more: Any
) -> Act:
    """Register a service of the program that does what its arguments say."""
    return ["create", name, f"{program} {name} {words}".strip(), {"start": start, "needs": list(needs), **more}]


def begun(name: str, wait: bool = True) -> Act:
    """Start a service."""
    return ["start", name, wait]


def down(name: str, words: str = "", needs: tuple[str, ...] = (), **more: Any) -> list[Act]:
    """A service that asks for the first of its needs, and fails without it."""
    return [made(name, f"--asks {needs[0]} {words}" if needs else words, needs=needs, **more), begun(name)]


@dataclass(frozen=True)
class Win32Fault:
    """One fault."""

    name: str
    acts: list[Act]
    ask: str
    right: list[tuple[str, str]]
    """Causes with their places, any of which may come first."""
    both: bool = False
    """Whether all of them have to be named first, in any order."""
    names: str = ""
    """What the verdict has to name."""
    mended: str = ""
    """Where a machine can mend it: the service that is up afterwards, and after a boot."""
    files: dict[str, bytes] = field(default_factory=dict)
    """Files below C:/opt, to be made before; what begins with ``=`` is a copy of the program."""


def chain(depth: int, bottom: str) -> list[Act]:
    """Services that stand on *bottom*, one on the other; all fail."""
    acts: list[Act] = []
    below = bottom
    for at in range(depth):
        acts += down(f"{bottom}Up{at + 1}", needs=(below,))
        below = f"{bottom}Up{at + 1}"
    return acts


def _arm(program: bytes) -> bytes:
    at = int.from_bytes(program[60:64], "little")
    return program[: at + 4] + (0x01C4).to_bytes(2, "little") + program[at + 6 :]


OTHER_MACHINE = _arm

FAULTS = [
    Win32Fault("disabled", [made("Jetty", start=DISABLED)], "Jetty", [("disabled", "Jetty")], mended="Jetty"),
    *(
        Win32Fault(
            f"disabled, {depth} down",
            [made(f"Bollard{depth}", start=DISABLED), *chain(depth, f"Bollard{depth}")],
            f"Bollard{depth}Up{depth}",
            [("disabled", f"Bollard{depth}")],
            mended=f"Bollard{depth}",
        )
        for depth in (1, 2, 3)
    ),
    Win32Fault("manual", [made("Ladder", start=MANUAL)], "Ladder", [("manual-not-started", "Ladder")], mended="Ladder"),
    Win32Fault("stopped by hand", [made("Buoy"), begun("Buoy"), ["stop", "Buoy"]], "Buoy", [("stopped", "Buoy")], mended="Buoy"),
    Win32Fault(
        "stopped by hand, one down",
        [made("Pontoon"), begun("Pontoon"), ["stop", "Pontoon"], *chain(1, "Pontoon")],
        "PontoonUp1",
        [("stopped", "Pontoon")],
        mended="Pontoon",
    ),
    Win32Fault("never started", [made("Fender")], "Fender", [("never-started", "Fender")], mended="Fender"),
    Win32Fault("program missing", [made("Winch", program=r"C:\opt\winch.exe"), begun("Winch")], "Winch", [("program-missing", "Winch")],
               names=r"C:\opt\winch.exe"),
    Win32Fault("program missing, one down", [made("Capstan", program=r"C:\opt\capstan.exe"), *chain(1, "Capstan")], "CapstanUp1",
               [("program-missing", "Capstan")]),
    Win32Fault("folder of the program missing", [made("Davit", program=r"C:\gone\davit.exe"), begun("Davit")], "Davit",
               [("program-missing", "Davit")], names=r"C:\gone"),
    Win32Fault("program is empty", [made("Hawser", program=r"C:\opt\hawser.exe"), begun("Hawser")], "Hawser",
               [("wrong-program-format", "Hawser")], files={"hawser.exe": b""}),
    Win32Fault("program is a text", [made("Cleat", program=r"C:\opt\cleat.exe"), begun("Cleat")], "Cleat",
               [("wrong-program-format", "Cleat")], files={"cleat.exe": b"this is no program\n"}),
    Win32Fault("program for another machine", [made("Rudder", program=r"C:\opt\rudder.exe"), begun("Rudder")], "Rudder",
               [("wrong-program-format", "Rudder")], files={"rudder.exe": b"=arm"}),
    Win32Fault("program is a folder", [made("Keel", program=r"C:\opt\keel.exe"), begun("Keel")], "Keel",
               [("program-not-executable", "Keel"), ("program-missing", "Keel")], files={"keel.exe/x.txt": b"x"}),
    Win32Fault("no quotes, two programs", [made("Tide", "--ends 87", program=r"C:\opt\Tide Feed\berth.exe"), begun("Tide")], "Tide",
               [("program-ambiguous", "Tide")], files={"Tide Feed/berth.exe": b"=", "Tide.exe": b"="}),
    Win32Fault("variable that is not set", [made("Sluice", program=r"%NOWHERE%\berth.exe"), begun("Sluice")], "Sluice",
               [("program-missing", "Sluice")], names="NOWHERE"),
    Win32Fault("paused", [made("Crane", "--pauses"), begun("Crane"), ["pause", "Crane"]], "Crane", [("paused", "Crane")], mended="Crane"),
    Win32Fault("paused, one down", [made("Gantry", "--pauses"), begun("Gantry"), ["pause", "Gantry"], *chain(1, "Gantry")], "GantryUp1",
               [("paused", "Gantry")], mended="Gantry"),
    Win32Fault("stuck in its start", [made("Lock", "--sticks"), begun("Lock", False)], "Lock", [("start-timeout", "Lock")], names="no progress"),
    Win32Fault("stuck in its start, one down", [made("Weir", "--sticks"), begun("Weir", False), *chain(1, "Weir")], "WeirUp1",
               [("start-timeout", "Weir")]),
    Win32Fault("stuck in its stop", [made("Dock", "--sticks-at-stop"), begun("Dock"), ["stop", "Dock"]], "Dock", [("stopped", "Dock")],
               names="no progress"),
    Win32Fault("its process is gone", [made("Skiff"), begun("Skiff"), ["kill", "Skiff"]], "Skiff", [("exits-at-once", "Skiff")], names="gone"),
    Win32Fault("its process is gone while it starts", [made("Dory", "--dies 3"), begun("Dory", False)], "Dory", [("exits-at-once", "Dory")],
               names="gone"),
    Win32Fault("its process is gone, two down", [made("Raft"), begun("Raft"), ["kill", "Raft"], made("RaftUp1", "--ends 1068", needs=("Raft",)),
               begun("RaftUp1"), *down("RaftUp2", needs=("RaftUp1",))], "RaftUp2", [("exits-at-once", "Raft")]),
    Win32Fault("port held", [made("Sonar", "--port 8101"), begun("Sonar"), made("Radar", "--port 8101"), begun("Radar")], "Radar",
               [("port-held", "Radar")], names="Sonar"),
    Win32Fault("port held, one down", [made("Beacon", "--port 8102"), begun("Beacon"), made("Lamp", "--port 8102"), begun("Lamp"),
               *chain(1, "Lamp")], "LampUp1", [("port-held", "Lamp")], names="Beacon"),
    Win32Fault("a file missing, by its log", [made("Chart", r"--read C:\opt\chart.ini --log C:\opt\logs\chart.log"), begun("Chart")],
               "Chart", [("path-missing", "Chart")], names=r"C:\opt\chart.ini"),
    Win32Fault("a file missing, by its number", [made("Sextant", r"--read C:\opt\sextant.ini"), begun("Sextant")], "Sextant",
               [("path-missing", "Sextant")], names=r"C:\opt\sextant.ini"),
    Win32Fault("a file missing, two down", [made("Compass", r"--read C:\opt\compass.ini --log C:\opt\logs\compass.log"), begun("Compass"),
               *chain(2, "Compass")], "CompassUp2", [("path-missing", "Compass")]),
    Win32Fault("denied, by its number", [made("Hatch", "--ends 5"), begun("Hatch")], "Hatch", [("access-denied", "Hatch")]),
    Win32Fault("settings refused", [made("Helm", r'''--ends-own 42 --log C:\opt\logs\helm.log --says "C:\opt\helm.ini:3: unknown setting 'sped'"'''),
               begun("Helm")], "Helm", [("config-rejected", "Helm")], names="helm.ini", files={"helm.ini": b"[helm]\r\na=1\r\nsped=3\r\n"}),
    Win32Fault("a number of its own", [made("Mast", "--ends-own 77"), begun("Mast")], "Mast", [("exits-with-error", "Mast")], names="77"),
    Win32Fault("a number of the system's that means itself", [made("Boom", "--ends 13"), begun("Boom")], "Boom",
               [("exits-with-error", "Boom"), ("config-rejected", "Boom")], names="13"),
    Win32Fault("a batch file for a program", [made("Haul", start=AUTOMATIC, program=r"C:\opt\haul.bat"), begun("Haul")], "Haul",
               [("never-reports", "Haul")], names="haul.bat", files={"haul.bat": b"@echo haul\r\n"}),
    Win32Fault("a number of its own, and words that say more", [made("Tiller", r"--ends-own 2 --log C:\opt\logs\tiller.log "
               '--says "required environment variable TIDE_HOME is not set"'), begun("Tiller")], "Tiller",
               [("exits-with-error", "Tiller")], names="TIDE_HOME"),
    Win32Fault("a place that nobody listens at", [made("Gauge", r"--ends-own 1 --log C:\opt\logs\gauge.log "
               '--says "dial tcp 127.0.0.1:8199: connectex: No connection could be made because the target machine '
               'actively refused it."'), begun("Gauge")], "Gauge",
               [("listener-off", "Gauge")], names="127.0.0.1:8199: nothing listens"),
    Win32Fault("in use by another, by the number in its words", [made("Ledger", r"--ends-own 3 --log C:\opt\logs\ledger.log "
               r'--says "cannot open C:\opt\logs\ledger.db (os error 32)"'), begun("Ledger")], "Ledger",
               [("lock-held", "Ledger"), ("held-by-peer", "Ledger")], files={"logs/ledger.db": b"x"}),
    Win32Fault("account missing", [made("Purser", "--ends 1069", account=r".\purser"), begun("Purser")], "Purser",
               [("account-missing", "Purser")], names="purser"),
    Win32Fault("logon refused", [made("Mate", "--ends 1069"), begun("Mate")], "Mate", [("account-barred", "Mate")]),
    Win32Fault("no room", [made("Hold", "--ends 112"), begun("Hold")], "Hold", [("disk-full", "Hold")]),
    Win32Fault("in use by another", [made("Log", "--ends 32"), begun("Log")], "Log", [("lock-held", "Log"), ("held-by-peer", "Log")]),
    Win32Fault("port refused", [made("Horn", "--ends 10013"), begun("Horn")], "Horn", [("port-forbidden", "Horn"), ("port-held", "Horn")]),
    Win32Fault("address absent", [made("Flag", "--ends 10049"), begun("Flag")], "Flag", [("address-missing", "Flag")]),
    Win32Fault("a loop", [made("Port", "--ends 1059", needs=("Starboard",)), made("Starboard", "--ends 1059", needs=("Port",)), begun("Port"),
               begun("Starboard")], "Port", [("dependency-cycle", "Port"), ("dependency-cycle", "Starboard")]),
    Win32Fault("a need that is not registered", [made("Cabin", "--ends 1075", needs=("Deck",)), begun("Cabin")], "Cabin",
               [("not-registered", "Deck")]),
    Win32Fault("a need under a numbered name", [made("Galley2"), made("Mess", "--ends 1075", needs=("Galley",)), begun("Mess")], "Mess",
               [("not-registered", "Galley")], names="Galley2"),
    Win32Fault("defined past the manager", [["put", rf"{KEYS}\Stowaway", "Type", 16, NUMBER], ["put", rf"{KEYS}\Stowaway", "Start", 2, NUMBER],
               ["put", rf"{KEYS}\Stowaway", "ImagePath", f"{B} Stowaway", LONG_TEXT]], "Stowaway", [("stale-definition", "Stowaway")]),
    Win32Fault("marked for removal", [made("Wreck"), ["put", rf"{KEYS}\Wreck", "DeleteFlag", 1, NUMBER]], "Wreck", [("being-removed", "Wreck")]),
    Win32Fault("two at once", [made("Anchor", start=DISABLED), made("Chain", program=r"C:\opt\chain.exe"),
               made("Windlass", "--ends 1068", needs=("Anchor", "Chain")), begun("Windlass")], "Windlass",
               [("disabled", "Anchor"), ("program-missing", "Chain")], both=True),
    Win32Fault("two at once that a machine mends", [made("Mizzen", start=DISABLED), made("Shroud", "--pauses"), begun("Shroud"), ["pause", "Shroud"],
               *down("Spanker", needs=("Mizzen", "Shroud"))], "Spanker", [("disabled", "Mizzen"), ("paused", "Shroud")], both=True, mended="Spanker"),
    Win32Fault("stopped by hand, two down", [made("Quay"), begun("Quay"), ["stop", "Quay"], *chain(2, "Quay")], "QuayUp2", [("stopped", "Quay")],
               mended="QuayUp2"),
    Win32Fault("never started, one down", [made("Pilot"), *chain(1, "Pilot")], "PilotUp1", [("never-started", "Pilot")],
               mended="PilotUp1"),
    Win32Fault("paused, two down", [made("Tug", "--pauses"), begun("Tug"), ["pause", "Tug"], *chain(2, "Tug")], "TugUp2", [("paused", "Tug")],
               mended="TugUp2"),
    Win32Fault("disabled, and on an event else", [made("Siren", start=DISABLED), ["put", rf"{KEYS}\Siren\TriggerInfo\0", "Type", 2, NUMBER],
               ["put", rf"{KEYS}\Siren\TriggerInfo\0", "Action", 1, NUMBER]], "Siren", [("disabled", "Siren")], mended="Siren"),
    Win32Fault("disabled, and delayed before", [made("Barge", start=DISABLED), ["put", rf"{KEYS}\Barge", "DelayedAutostart", 1, NUMBER],
               *chain(1, "Barge")], "BargeUp1", [("disabled", "Barge")], mended="BargeUp1"),
    Win32Fault("library of a shared process missing", [["create", "Cargo", r"C:\windows\system32\svchost.exe -k cargo", {"start": 2, "kind": SHARED}],
               ["put", rf"{KEYS}\Cargo\Parameters", "ServiceDll", r"C:\opt\cargo.dll", LONG_TEXT], begun("Cargo")], "Cargo",
               [("path-missing", "Cargo"), ("program-missing", "Cargo")], names=r"C:\opt\cargo.dll"),
]  # fmt: skip

HEALTHY: dict[str, list[Act]] = {
    "Harbor": [made("Harbor"), begun("Harbor")],
    "HarborOffice": [made("HarborOffice", "--asks Harbor", needs=("Harbor",)), begun("HarborOffice")],
    # Its moment is two minutes after the boot where nothing else is set: a busy machine may need longer to come to the look. The number
    # is documented as seconds, and this manager takes it as milliseconds: an hour by the one, weeks by the other.
    "NightFerry": [
        made("NightFerry"),
        ["put", rf"{KEYS}\NightFerry", "DelayedAutostart", 1, NUMBER],
        ["put", r"SYSTEM\CurrentControlSet\Control", "AutoStartDelay", 3_600_000, NUMBER],
    ],
    "Spare": [made("Spare", start=MANUAL)],
    "OnCall": [
        made("OnCall", start=MANUAL),
        ["put", rf"{KEYS}\OnCall\TriggerInfo\0", "Type", 2, NUMBER],
        ["put", rf"{KEYS}\OnCall\TriggerInfo\0", "Action", 1, NUMBER],
    ],
    "Errand": [made("Errand", "--ends 0", start=MANUAL), begun("Errand")],
    "Retired": [made("Retired", start=DISABLED)],
    "SlowBoat": [made("SlowBoat", "--starts-in 100000 --counts 400"), begun("SlowBoat", False)],
    "Long Pier": [
        ["create", "Long Pier", r'"C:\opt\Long Pier\berth.exe" "Long Pier" --port 8103', {"start": 2}],
        begun("Long Pier"),
    ],
    "Convoy": [made("Convoy", needs=("+System Bus Extender",)), begun("Convoy")],
    "Signal": [made("Signal", needs=("MountMgr",)), begun("Signal")],
}
"""Services that are as they should be. Beside them those that every such host has: services in shared processes, drivers."""
HEALTHY_FILES = {"Long Pier/berth.exe": b"="}
