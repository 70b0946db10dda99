"""The root of the command line. A command's module is imported when it is used, so that each starts quickly."""

from __future__ import annotations

import importlib

import click

from chronarch import __version__
from chronarch.cli.context import Service, SpeakingGroup

COMMANDS: dict[str, tuple[str, str, tuple[str, ...]]] = {
    "machines": (
        "The machines: what they do now, hands on, intake, service.",
        "cli.machines.machines",
        ("cli.control.machines", "cli.machines.plugs", "cli.machines.finding", "cli.planning.start_next"),
    ),
    "models": ("Models of machine and their figures.", "cli.machines.models", ()),
    "materials": ("Materials: what they weigh, and how warm they want it.", "cli.machines.materials", ()),
    "plugs": (
        "Plugs that machines hang on: what they draw, and when they are turned off and on.",
        "cli.machines.plugs",
        (),
    ),
    "files": (
        "The library of sliced files: add, find, file away, edit.",
        "cli.library.files",
        ("cli.library.edits", "cli.library.ways_in"),
    ),
    "parts": ("Parts, and the files that make each.", "cli.library.parts", ()),
    "orders": ("Orders: what customers want by when.", "cli.orders.orders", ()),
    "plan": ("What each machine does next, when, and why.", "cli.planning.plan", ()),
    "what-if": (
        "What would happen if: both plans side by side. Nothing of the shop changes.",
        "cli.planning.what_if",
        (),
    ),
    "rounds": ("What hands must do, soonest first, what waiting costs, and what comes.", "cli.rounds", ()),
    "jobs": ("The queue: jobs and why they wait.", "cli.orders.jobs", ()),
    "builds": (
        "Builds: pause, resume, change, stop, clear and judge.",
        "cli.orders.builds",
        ("cli.control.builds", "cli.watching.frames", "cli.ledger.history"),
    ),
    "history": ("Builds of all time, found by anything that is known of them.", "cli.ledger.history", ()),
    "cameras": ("Cameras: what they see, setting them up, trying them.", "cli.watching.cameras", ()),
    "films": ("Films of builds: find, save, keep, make, and how they are made.", "cli.watching.films", ()),
    "watch": (
        "The watch: what it suspects, what follows, and how well it does on labelled frames.",
        "cli.watching.watch",
        ("cli.watching.suspicions", "cli.watching.watch_rules"),
    ),
    "notices": (
        "Notices: what people should know, who goes, and who hears of what.",
        "cli.notices.notices",
        ("cli.notices.rules",),
    ),
    "channels": (
        "Channels: mail, chat and webhooks, whether they arrive, and the shop's servers for them.",
        "cli.notices.channels",
        (),
    ),
    "spools": ("Spools: what is left on each, and where it is.", "cli.machines.spools", ()),
    "stock": ("Good pieces on the shelf that nobody has ordered.", "cli.orders.stock", ()),
    "hours": ("When hands are there.", "cli.planning.hours", ()),
    "upkeep": (
        "Upkeep: what is due at which machine and when, what was done, and how long parts last.",
        "cli.upkeep",
        (),
    ),
    "calibration": (
        "Calibration checks: what they measured, whether it drifts, and what is out of tolerance.",
        "cli.upkeep",
        (),
    ),
    "fleet": (
        "The state of the fleet: firmware, who is behind, and settings that differ among machines of one model.",
        "cli.fleet_state",
        (),
    ),
    "report": (
        "Reports from the ledger.",
        "cli.ledger.ledger",
        ("cli.ledger.figures", "cli.ledger.change_points", "cli.ledger.worth"),
    ),
    "reports": (
        "Reports that come by themselves, each week, month or shift; and those that came, as they were.",
        "cli.ledger.reporting",
        (),
    ),
    "costs": (
        "What builds, parts and orders cost, and the prices that is worked out from.",
        "cli.ledger.costs",
        (),
    ),
    "ledger": ("The ledger itself.", "cli.ledger.ledger", ()),
    "follow": ("Follow all machines live. In a pipe: one line for each change of state.", "cli.machines.follow", ()),
    "inspect": (
        "Read a sliced file: time, layers, extents, filament, objects, and what stands against it. Needs no service.",
        "cli.gcode.inspect",
        (),
    ),
    "health": (
        "How the service itself is: database, disk, clocks, tenders, workers. Exit code 1 when something is wrong.",
        "cli.system.health",
        (),
    ),
    "storage": ("What takes the disk, when it will be full, and what can go.", "cli.system.storage", ()),
    "backup": (
        "Backups: take and try them, where they go and when, restore one onto an empty machine.",
        "cli.system.backup",
        ("service.system.backup.command",),
    ),
    "setup": ("The shop's set-up as a file, to be kept in version control.", "cli.system.setup", ()),
    "install": ("Put service, tender and database in place on this computer, and start them.", "install.command", ()),
    "uninstall": (
        "Take the parts away from this computer. Records and files stay, unless told.",
        "install.command",
        (),
    ),
    "doctor": (
        "Say what is wrong with the installation on this computer, and what to do. Exit code 1 when something is.",
        "install.command",
        (),
    ),
    "launch": ("Run all parts of an installation until stopped, where there is no systemd.", "install.command", ()),
    "database": ("The database server of an installation that has its own.", "install.command", ()),
    "connect": ("Remember the address of a service and a key, once both have been tried.", "cli.access.people", ()),
    "me": ("Who asks with this key, and what it may do where.", "cli.access.people", ()),
    "people": (
        "People: invite them, what they may do, where they are signed in, what is kept of them.",
        "cli.access.people",
        (),
    ),
    "roles": ("Roles: named sets of rights, held for the shop, a site or a pool.", "cli.access.roles", ()),
    "teams": ("Teams: people who hold the same roles.", "cli.access.roles", ()),
    "keys": ("Keys for programs.", "cli.access.keys", ()),
    "audit": (
        "The audit: who did what to what, from where, when, and what it was before.",
        "cli.access.audit",
        (),
    ),
    "service": ("The service: records, decisions and the console.", "service.command", ()),
    "tender": (
        "The tender: minds machines and feeds them their builds.",
        "tender.command",
        ("tender.discovery.command",),
    ),
    "links": ("Links: what is at the other end of an address.", "tender.discovery.probe", ()),
    "standins": ("Simulated machines and cameras.", "standins.command", ()),
    "demo": ("The demo shop, Marrow Lane Fabrication.", "demo.command", ()),
}
"""Each command of the root: what it is, the module that holds it, and those that add commands of their own to it: by
its decorator, or as `added`."""


class _Root(SpeakingGroup):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in COMMANDS:
            return None
        _, module, more = COMMANDS[cmd_name]
        command: click.Command = getattr(importlib.import_module(f"chronarch.{module}"), cmd_name.replace("-", "_"))
        for name in more:
            added = getattr(importlib.import_module(f"chronarch.{name}"), "added", ())
            for one in added:
                assert isinstance(command, click.Group)
                command.add_command(one)
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, text) for name, (text, _, _) in COMMANDS.items()])


@click.group(cls=_Root)
@click.option("--address", envvar="CHRONARCH_ADDRESS", help="The service, http://HOST:PORT.")
@click.option("--key", envvar="CHRONARCH_KEY", help="A key for it.")
@click.version_option(__version__, prog_name="chronarch")
@click.pass_context
def root(ctx: click.Context, address: str | None, key: str | None) -> None:
    """Run a print shop's fleet of networked 3D printers."""
    ctx.obj = Service(address, key)
