"""The steps that systemd takes for a unit between its fork and the unit's own program, by the exit status that each ends with
(systemd.exec(5), "Process Exit Codes"): a whole table, so that none of them falls through."""

from __future__ import annotations

from typing import Literal, NamedTuple

About = Literal[
    "folder", "program", "account", "session", "streams", "root", "places", "credentials", "own folder", "setting"
]


class ManagerStep(NamedTuple):
    """One step."""

    name: str
    """As the manager's records call it."""
    about: About
    """What of the definition it is about: ``setting`` where it is a demand on the kernel, and no thing that one could look at."""
    settings: str
    """The settings behind it."""
    means: str


EXIT_NOT_FOUND = 127
"""Of no step, but of env(1) and the shells that did not find a command (sh(1p), "Exit Status")."""
EXIT_NOT_RUN = 126
"""The same of those that found it and could not run it."""
STEPS: dict[int, ManagerStep] = {
    200: ManagerStep("CHDIR", "folder", "WorkingDirectory=", "its working folder could not be entered"),
    201: ManagerStep("NICE", "setting", "Nice=", "its priority could not be set"),
    202: ManagerStep("FDS", "setting", "the sockets and streams that it is handed", "they could not be passed to it"),
    203: ManagerStep("EXEC", "program", "ExecStart=", "the program could not be run"),
    204: ManagerStep("MEMORY", "setting", "memory of the manager", "there was not enough memory for it"),
    205: ManagerStep("LIMITS", "setting", "LimitNOFILE= and the like", "its limits could not be set"),
    206: ManagerStep("OOM_ADJUST", "setting", "OOMScoreAdjust=", "it could not be set"),
    207: ManagerStep("SIGNAL_MASK", "setting", "IgnoreSIGPIPE=", "its signals could not be set"),
    208: ManagerStep("STDIN", "streams", "StandardInput=", "its input could not be opened"),
    209: ManagerStep("STDOUT", "streams", "StandardOutput=", "its output could not be opened"),
    210: ManagerStep("CHROOT", "root", "RootDirectory=", "its root folder could not be entered"),
    211: ManagerStep("IOPRIO", "setting", "IOSchedulingClass=", "it could not be set"),
    212: ManagerStep("TIMERSLACK", "setting", "TimerSlackNSec=", "it could not be set"),
    213: ManagerStep("SECUREBITS", "setting", "SecureBits=", "they could not be set"),
    214: ManagerStep("SETSCHEDULER", "setting", "CPUSchedulingPolicy=", "it could not be set"),
    215: ManagerStep("CPUAFFINITY", "setting", "CPUAffinity=", "it could not be set"),
    216: ManagerStep("GROUP", "account", "Group= or SupplementaryGroups=", "the group could not be determined"),
    217: ManagerStep("USER", "account", "User=", "the user could not be determined"),
    218: ManagerStep("CAPABILITIES", "setting", "CapabilityBoundingSet= or AmbientCapabilities=", "its rights could not be set"),
    219: ManagerStep("CGROUP", "setting", "its control group", "it could not be set up"),
    220: ManagerStep("SETSID", "setting", "its session of processes", "it could not be made"),
    221: ManagerStep("CONFIRM", "setting", "a start that somebody was to confirm", "it was refused at the console"),
    222: ManagerStep("STDERR", "streams", "StandardError=", "its error output could not be opened"),
    224: ManagerStep("PAM", "session", "PAMName=", "no session could be opened for the account"),
    225: ManagerStep("NETWORK", "setting", "PrivateNetwork= or NetworkNamespacePath=", "its network could not be set up"),
    226: ManagerStep("NAMESPACE", "places", "its private view of the files", "it could not be set up"),
    227: ManagerStep("NO_NEW_PRIVILEGES", "setting", "NoNewPrivileges=", "it could not be set"),
    228: ManagerStep("SECCOMP", "setting", "SystemCallFilter= and the like", "the filter could not be set"),
    229: ManagerStep("SELINUX_CONTEXT", "setting", "SELinuxContext=", "it could not be set"),
    230: ManagerStep("PERSONALITY", "setting", "Personality=", "it could not be set"),
    231: ManagerStep("APPARMOR", "setting", "AppArmorProfile=", "the profile could not be set"),
    232: ManagerStep("ADDRESS_FAMILIES", "setting", "RestrictAddressFamilies=", "it could not be set"),
    233: ManagerStep("RUNTIME_DIRECTORY", "own folder", "RuntimeDirectory=", "it could not be made"),
    235: ManagerStep("CHOWN", "setting", "the owner of its socket", "it could not be set"),
    236: ManagerStep("SMACK_PROCESS_LABEL", "setting", "SmackProcessLabel=", "it could not be set"),
    237: ManagerStep("KEYRING", "setting", "KeyringMode=", "it could not be set up"),
    238: ManagerStep("STATE_DIRECTORY", "own folder", "StateDirectory=", "it could not be made"),
    239: ManagerStep("CACHE_DIRECTORY", "own folder", "CacheDirectory=", "it could not be made"),
    240: ManagerStep("LOGS_DIRECTORY", "own folder", "LogsDirectory=", "it could not be made"),
    241: ManagerStep("CONFIGURATION_DIRECTORY", "own folder", "ConfigurationDirectory=", "it could not be made"),
    242: ManagerStep("NUMA_POLICY", "setting", "NUMAPolicy=", "it could not be set"),
    243: ManagerStep("CREDENTIALS", "credentials", "LoadCredential= or SetCredential=", "its credentials could not be set up"),
    245: ManagerStep("BPF", "setting", "RestrictFileSystems= and the like", "it could not be set"),
}  # fmt: skip
STEP_NAMES = {step.name: status for status, step in STEPS.items()}


def step_of(exit_status: int | None) -> ManagerStep | None:
    """The step of the manager that ended with *exit_status*; None where the status is the program's own."""
    return STEPS.get(exit_status) if exit_status is not None else None
