"""The demo data: a small ferry company of our invention, with hosts of both families and some fifty troubles."""

from importlib.resources import files
from importlib.resources.abc import Traversable

TROUBLES: tuple[tuple[str, str, str], ...] = (
    ("gate-kiosk", "gate-03", "hangs at its first screen: a disabled service, three links and two hosts away"),
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
    ("gate-camera", "gate-03", "a false alarm: skipped, as its start condition asks"),
    ("lane-lights", "gate-03", "runs, but will not come back at the next boot"),
    ("dispatch-plan", "mole-msg", "stands in a loop"),
    ("broker-day", "mole-msg", "ended by the start of its rival"),
    ("archive", "mole-msg", "its file system is not mounted"),
    ("alert-mail", "mole-msg", "its account does not exist"),
    ("tide-gauge", "mole-msg", "crashes and is restarted, hundreds of times"),
    ("ship-sync", "mole-msg", "runs by an old definition"),
    ("CamWall", "office-01", "a firewall between it and what it needs"),
    ("PassagePlots", "voyage-ws", "in time by hand, too late at each boot"),
    ("FogHorn", "pierhead", "needs one that is disabled"),
    ("QueueClerk", "pierhead", "stopped, nobody knows by whom"),
    ("LampCheck", "pierhead", "set to start at boot after the boot"),
    ("CardReader", "pierhead", "no fault: waits for its event"),
    ("GullScare", "pierhead", "runs, but will not come back"),
    ("WakeSensor", "pierhead", "the manager refuses its definition"),
    ("TollPrint", "pierhead", "runs by an old definition"),
    ("MapTiles", "pierhead", "a program for another machine"),
    ("RampDrive", "pierhead", "its working folder is gone"),
    ("FareTable", "pierhead", "a file among its arguments is gone"),
    ("DeckCalls", "pierhead", "a misspelled word in its configuration"),
    ("CrewRota", "pierhead", "two that wait for each other"),
    ("LaneCount", "pierhead", "comes first at boot, before what it uses"),
    ("SealPlan", "pierhead", "a guard that grabs what it needs"),
    ("RadarLink", "pierhead", "hangs, and a limit typed in the wrong base lets it"),
    ("BoomWatch", "pierhead", "ends and is started again, all day"),
    ("BoardWeb", "pierhead", "a shared host process has its port"),
    ("BuoyFeed", "pierhead", "a port that the system keeps"),
    ("ShoreTalk", "pierhead", "an address of no adapter"),
    ("QuayLights", "pierhead", "runs, and does not listen"),
    ("BaggageBelt", "pierhead", "its account is gone"),
    ("FuelDock", "pierhead", "its account lacks the right to run services"),
    ("CargoList", "pierhead", "access is denied"),
    ("TideClock", "pierhead", "ends with an error of its own"),
    ("LogBook", "pierhead", "the disk is full"),
    ("CoastLink", "pierhead", "another machine does not answer"),
    ("PassCheck", "pierhead", "the clock is off by a day"),
    ("MailRelay", "pierhead", "only a reboot helps"),
    ("StampPress", "pierhead", "left stopped by an update"),
    ("RouteOptimizer", "voyage-ws", "license: a license daemon whose program is gone, on another host"),
    ("TideTables", "chartroom", "license: expired"),
    ("IceCharts", "chartroom", "license: all seats are taken"),
    ("HullMonitor", "chartroom", "license: a host ID with two digits swapped"),
    ("CrewSim", "chartroom", "license: a new file that was not reloaded"),
    ("RadarTrainer", "chartroom", "license: a feature that is not entitled"),
    ("DockPlanner", "chartroom", "license: seats raised by hand"),
    ("WeatherRouting", "chartroom", "license: a server that hangs"),
    ("BridgeSim", "chartroom", "license: a file with a second extension"),
)
"""Target, host, and what is the matter with it."""


def snapshots() -> list[Traversable]:
    """The snapshot files of the demo, one a host."""
    folder = files(__name__) / "facts"
    return sorted((f for f in folder.iterdir() if f.name.endswith(".yaml")), key=lambda f: f.name)
