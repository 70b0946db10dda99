"""`chronarch backup`: taking, trying and keeping backups."""

from __future__ import annotations

import sys
import time
from datetime import datetime
from pathlib import Path

import click

from chronarch.cli.context import REFUSED, Service, fail, json_option, pass_service
from chronarch.cli.output import clock_time, duration, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.when import DAYS
from chronarch.client import requests
from chronarch.secret_options import place_options, private_key_option, secret_in
from chronarch.wire.system.backups import Backup, BackupPlace, Backups, BackupSettingsChange

LOOK_EVERY_S = 0.5
ON_ONE_DISK = "on the disk of what they are of: one that dies takes both"


@click.group()
def backup() -> None:
    """Backups: take and try them, where they go and when, restore one onto an empty machine."""


@backup.command("list")
@json_option
@pass_service
def list_backups(service: Service, as_json: bool) -> None:
    """The backups there are, the newest first, and what is not as it should be."""
    found = service.do(requests.backups())
    if as_json:
        show_json(found)
        return
    _show_troubles(found)
    show_facts(_facts(found))
    say("")
    show_table(
        ("Backup", "Files", "Size", "New", "Took", "Tried", "A restore takes"),
        [_row(one) for one in found.backups],
        "There are no backups yet; `chronarch backup create` takes one."
        if found.settings.address
        else "There is no place for backups yet; `chronarch backup schedule --to PLACE` gives one.",
    )


def _row(one: Backup) -> tuple[str, ...]:
    if not one.stamp:
        return clock_time(one.at), f"failed: {one.problem}", "", "", "", "", ""
    if one.tried_at is None:
        tried = "not yet"
    else:
        tried = f"{one.faults:,} fault{'s' * (one.faults != 1)}" if one.faults else clock_time(one.tried_at)
    return (
        one.stamp, f"{one.items:,}", _size(one.items_bytes + one.records_bytes), _size(one.sent_bytes),
        duration(one.took_s), tried, duration(one.restore_s) if one.restore_s is not None else "",
    )  # fmt: skip


def _facts(found: Backups) -> list[tuple[str, str]]:
    s = found.settings
    if not s.address:
        return [("Place", "none yet")]
    when = f"each day at {s.at:%H:%M} ({found.zone}), next {clock_time(found.next_at)}" if found.next_at else "off"
    kept = f"{s.daily} of days, {s.weekly} of weeks, {s.monthly} of months"
    trial = f"each {DAYS[s.try_on].capitalize()}" if s.sealed_with == "passphrase" else "with the private key only"
    under_way = f"a {found.work.what}: {found.work.step}" if found.work else ""
    sealed = "with a passphrase" if s.sealed_with == "passphrase" else "for a public key"
    return [
        ("Place", s.address), ("", ON_ONE_DISK if found.same_disk else ""), ("Sealed", sealed),
        ("Taken", when), ("Kept", kept), ("Tried", trial), ("Under way", under_way),
    ]  # fmt: skip


def _size(number: int) -> str:
    return f"{number / 1e9:.2f} GB" if number >= 1e8 else f"{number / 1e6:.1f} MB"


def _show_troubles(found: Backups) -> None:
    for trouble in found.troubles:
        say(trouble, fg="red")


@backup.command("create")
@json_option
@pass_service
def create(service: Service, as_json: bool) -> None:
    """Take a backup now, and wait until it is complete. Builds go on meanwhile."""
    service.do(requests.take_backup())
    found = _follow(service)
    newest = found.backups[0] if found.backups else None
    if newest is None or (newest.problem and not newest.stamp):
        fail(f"No backup was taken: {newest.problem if newest else 'nothing is known of it'}", REFUSED)
    if as_json:
        show_json(newest)
        return
    say(f"{newest.stamp}: {newest.items:,} files, {_size(newest.items_bytes + newest.records_bytes)}, of which "
        f"{_size(newest.sent_bytes)} were new; in {duration(newest.took_s)}.")  # fmt: skip
    if newest.problem:
        say(newest.problem, fg="red")


@backup.command("verify")
@click.argument("stamp", default="")
@private_key_option
@json_option
@pass_service
def verify(service: Service, stamp: str, private_key: Path | None, as_json: bool) -> None:
    """Try a backup (the newest without STAMP): restore it into a database server of its own, prove the ledger there,
    compare all hashes. Exit code 1 when something is wrong with it."""
    key = secret_in(private_key).strip() or None
    wanted = stamp or next((one.stamp for one in service.do(requests.backups()).backups if one.stamp), "")
    service.do(requests.try_backup(stamp, key))
    found = _follow(service)
    tried = next((one for one in found.backups if one.stamp == wanted), None)
    if tried is None or tried.tried_at is None:
        fail(found.troubles[-1] if found.troubles else "It was not tried; see `chronarch health`.", REFUSED)
    if as_json:
        show_json(tried)
    elif not tried.faults:
        say(f"{tried.stamp} is whole: {tried.items:,} files, and a ledger without a fault. "
            f"A restore takes about {duration(tried.restore_s or 0)}.", fg="green")  # fmt: skip
    else:
        say(f"{tried.stamp} has {tried.faults:,} fault{'s' * (tried.faults != 1)}:", fg="red")
        for fault in tried.first_faults:
            say(f"  {fault}")
    if tried.faults:
        raise SystemExit(REFUSED)


def _follow(service: Service) -> Backups:
    """Wait until what is under way has ended, with a bar on a terminal."""
    with click.progressbar(length=1000, label="beginning", file=sys.stderr) as bar:
        while (found := service.do(requests.backups())).work is not None:
            bar.label = found.work.step
            if found.work.share is not None:
                bar.pos = int(1000 * found.work.share)
            bar.update(0)
            time.sleep(LOOK_EVERY_S)
    return found


@backup.command("schedule")
@click.option("--to", "address", help="Where to: a folder, or s3+https://HOST/BUCKET/PREFIX.")
@place_options
@click.option("--public-key", help="Seal them for this public key (see make-keys); then no passphrase is needed.")
@click.option("--at", type=click.DateTime(["%H:%M"]), help="When they are taken, each day, in the shop's zone.")
@click.option("--daily", type=click.IntRange(0, 1000), help="How many are kept of days.")
@click.option("--weekly", type=click.IntRange(0, 1000), help="How many are kept of weeks.")
@click.option("--monthly", type=click.IntRange(0, 1000), help="How many are kept of months.")
@click.option("--try-on", type=click.Choice(DAYS), help="The day of the week on which the newest is tried.")
@click.option("--on/--off", "on", default=None, help="Whether they are taken by themselves.")
@json_option
@pass_service
def schedule(
    service: Service, address: str | None, login: str, password_file: Path | None, passphrase_file: Path | None,
    public_key: str | None, at: datetime | None, daily: int | None, weekly: int | None, monthly: int | None,
    try_on: str | None, on: bool | None, as_json: bool,
) -> None:  # fmt: skip
    """Say where backups go, when they are taken, how many are kept, and when one is tried. Without options: show it."""
    place = None
    if address:
        passphrase = None
        if passphrase_file is not None:
            passphrase = secret_in(passphrase_file)
        elif public_key is None:
            say("Without this passphrase nobody can restore the backups. Keep it where this computer is not.", err=True)
            passphrase = click.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True)
        place = BackupPlace(
            address=address,
            login=login,
            password=secret_in(password_file),
            passphrase=passphrase,
            public_key=public_key,
        )
    change = BackupSettingsChange(
        place=place, at=at.time() if at else None, daily=daily, weekly=weekly, monthly=monthly, on=on,
        try_on=DAYS.index(try_on) if try_on else None,
    )  # fmt: skip
    asked = change.model_dump(exclude_none=True)
    found = service.do(requests.change_backup_settings(change) if asked else requests.backups())
    if as_json:
        show_json(found.settings)
        return
    _show_troubles(found)
    show_facts(_facts(found))
