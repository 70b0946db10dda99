"""The `chronarch` command: the command line's groups, and those that run processes."""

from __future__ import annotations

import importlib

import click

from chronarch.cli.app import root

PROCESSES = {
    "service": ("service.command", "The service: records, decisions and the console."),
    "tender": ("tender.command", "The tender: minds machines and feeds them their builds."),
    "links": ("tender.probe", "Links: what is at the other end of an address."),
    "standins": ("standins.command", "Simulated machines and cameras."),
    "demo": ("demo.command", "The demo shop."),
}


class _Later(click.Group):
    """A group that is imported when it is used, so that small commands start quickly."""

    def __init__(self, name: str, module: str, text: str) -> None:
        super().__init__(name, help=text)
        self._module = f"chronarch.{module}"

    def _group(self) -> click.Group:
        group: click.Group = getattr(importlib.import_module(self._module), self.name or "")
        return group

    def list_commands(self, ctx: click.Context) -> list[str]:
        return self._group().list_commands(ctx)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        return self._group().get_command(ctx, cmd_name)


for _name, (_module, _text) in PROCESSES.items():
    root.add_command(_Later(_name, _module, _text))


def main() -> None:
    root()
