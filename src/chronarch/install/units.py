"""systemd's units for the parts (systemd.unit(5), systemd.exec(5)): each may do what it must, and nothing else."""

from __future__ import annotations

from pathlib import Path

from chronarch.install.parts import InstalledPart
from chronarch.installation import USER, Installation

HOMES = (Path("/home"), Path("/root"))
HARDENED = """\
NoNewPrivileges=yes
CapabilityBoundingSet=
AmbientCapabilities=
ProtectSystem=strict
ProtectHome={home}
PrivateTmp=yes
ProtectProc=invisible
ProcSubset=all
ProtectClock=yes
ProtectControlGroups=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
LockPersonality=yes
RemoveIPC=yes
RestrictAddressFamilies={families}
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
SystemCallErrorNumber=EPERM
UMask=0077
"""


def unit_name(part: InstalledPart) -> str:
    return f"chronarch-{part.name}.service"


def unit(part: InstalledPart, there: Installation, python: Path, own_database: bool) -> str:
    """The unit of a part, which `python` runs."""
    needs = [f"chronarch-{name}.service" for name in part.after if own_database or name != "database"]
    after = " ".join(["network-online.target", *needs])
    inside = any(home in python.parents for home in HOMES)
    hardened = HARDENED.format(home="read-only" if inside else "yes", families=" ".join(part.families))
    lines = [
        "[Unit]", f"Description=Chronarch: {part.says}", f"After={after}", "Wants=network-online.target",
        *([f"Wants={' '.join(needs)}"] if needs else []), "StartLimitIntervalSec=0", "",
        "[Service]", "Type=exec", f"User={USER}", f"Group={USER}", f"EnvironmentFile={there.settings}",
        f"WorkingDirectory={there.state}", f"ExecStart={python} -m chronarch {' '.join(part.words)}",
        "Restart=always", "RestartSec=2", "TimeoutStopSec=60", "KillMode=mixed", f"StateDirectory={USER}",
        "StateDirectoryMode=0750", "LimitNOFILE=16384", f"Nice={part.nice}", *hardened.splitlines(),
    ]  # fmt: skip
    if part.devices:
        lines += ["DevicePolicy=closed", *(f"DeviceAllow={one}" for one in part.devices)]
        lines += [f"SupplementaryGroups={' '.join(part.groups)}"]
    else:
        lines += ["PrivateDevices=yes"]
    return "\n".join([*lines, "", "[Install]", "WantedBy=multi-user.target", ""])
