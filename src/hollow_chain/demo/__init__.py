"""The demo data: a small ferry company of our invention, with two hosts of each family and more than ten troubles."""

from importlib.resources import files
from importlib.resources.abc import Traversable

TROUBLES: tuple[tuple[str, str, str], ...] = (
    (
        "gate-kiosk",
        "gate-03",
        "hangs at its first screen: a disabled service, three links and two hosts away",
    ),
    ("TicketDesk", "office-01", "needs a manual service that nobody started"),
    ("LoyaltyCards", "office-01", "needs a name that is not registered; a numbered twin is"),
    ("HarborPrint", "office-01", "left stopped by an update"),
    ("ReportMill", "office-01", "a false alarm: it starts delayed"),
    ("BridgeScreens", "voyage-ws", "needs one that starts more slowly than the limit allows"),
    ("TideModel", "voyage-ws", "its program was replaced by a newer one of another name"),
    ("PositionFeed", "voyage-ws", "paused"),
    ("signboard@3", "gate-03", "an instance without its own file"),
    ("passport-reader", "gate-03", "a device that is not there"),
    ("barrier-control", "gate-03", "a word in its configuration is misspelled"),
    ("gate-camera", "gate-03", "passed over: a start condition does not hold"),
    ("lane-lights", "gate-03", "runs, but will not come back at the next boot"),
    ("dispatch-plan", "mole-msg", "stands in a loop"),
    ("broker-day", "mole-msg", "ended by the start of its rival"),
    ("archive", "mole-msg", "its file system is not mounted"),
    ("alert-mail", "mole-msg", "its account does not exist"),
    ("tide-gauge", "mole-msg", "crashes and is restarted, hundreds of times"),
    ("ship-sync", "mole-msg", "runs by an old definition"),
)
"""Target, host, and what is the matter with it."""


def snapshots() -> list[Traversable]:
    """The snapshot files of the demo, one a host."""
    folder = files(__name__) / "facts"
    return sorted((f for f in folder.iterdir() if f.name.endswith(".yaml")), key=lambda f: f.name)
