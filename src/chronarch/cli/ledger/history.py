"""`chronarch history`: builds of all time; and what people write beside them."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from chronarch.cli.context import REFUSED, WRONG_USE, Service, fail, json_option, limit_option, pass_service
from chronarch.cli.groups import build_number, builds
from chronarch.cli.output import clock_time, duration, show_csv, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.core.machines.states import Outcome
from chronarch.wire.ledger import history as wh
from chronarch.wire.orders.builds import Build

FORMATS = ["%Y-%m-%d", "%Y-%m-%dT%H:%M", "%Y-%m-%d %H:%M"]
NARROWING: dict[str, tuple[Any, str]] = {
    "machine": (str, "The machine that made it."),
    "model": (str, "The machine's model."),
    "site": (str, "The machine's site, as it is now."),
    "pool": (str, "A pool of the machine, as it is now."),
    "part": (str, "The part that was made."),
    "file": (str, "The file it was made from."),
    "revision": (int, "The file's revision."),
    "job": (int, "The number of its job."),
    "order": (int, "The number of its order."),
    "customer": (str, "Whose order it was."),
    "material": (str, "What was laid."),
    "colour": (str, "In which colour."),
    "spool": (int, "From which spool."),
    "nozzle_mm": (float, "Through which nozzle, mm."),
    "outcome": (click.Choice([str(outcome) for outcome in Outcome]), "How it ended."),
    "verdict": (click.Choice([str(verdict) for verdict in wh.BuildVerdict]), "What people said of it."),
    "scrap_reason": (str, "Why it was scrap."),
    "stop_reason": (str, "Why it was stopped under way, in the words before a colon."),
    "person": (str, "Who judged it."),
    "tag": (str, "A tag of the build."),
    "search": (str, "Words in files, parts, notes, reasons and tags."),
    "begin": (click.DateTime(FORMATS), "Builds that began then or later, in your own zone."),
    "end": (click.DateTime(FORMATS), "Builds that began before."),
    "days": (click.IntRange(1, 36_500), "Builds that began in the last so many days."),
}
"""What narrows a search: how it is read, and what it means."""
SPELLED = {"begin": "--from", "end": "--to"}


def _narrowing(command: Callable[..., Any]) -> Callable[..., Any]:
    for name, (kind, text) in reversed(NARROWING.items()):
        spelled = SPELLED.get(name, f"--{name.replace('_', '-')}")
        command = click.option(spelled, name, type=kind, help=text)(command)
    return command


@click.command()
@_narrowing
@click.option("--sort", type=click.Choice([str(sort) for sort in wh.BuildSort]), help="In which order; newest first "
              "unless said.")  # fmt: skip
@limit_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@click.option("-o", "--out", type=click.Path(dir_okay=False, path_type=Path), help="All of them into a file: .csv, "
              ".parquet, or .jsonl with one JSON object a line.")  # fmt: skip
@click.option("--view", help="What was saved under a name; what else is said narrows it further.")
@click.option("--save", help="Save what is asked for under a name.")
@click.option("--saved", "list_saved", is_flag=True, help="Say what is saved under which names.")
@click.option("--forget", help="Forget what was saved under a name.")
@pass_service
def history(
    service: Service, /, limit: int, as_json: bool, as_csv: bool, out: Path | None, view: str | None, save: str | None,
    list_saved: bool, forget: str | None, **said: Any,
) -> None:  # fmt: skip
    """Builds of all time, found by anything that is known of them."""
    if forget is not None:
        return say(service.do(requests.forget_view(forget)).text)
    if list_saved:
        return _show_saved(service, as_json)
    asked = _asked(service, said, view)
    if save is not None:
        say(f"Saved as {service.do(requests.save_view(save, asked)).name}.", err=True)
    if out is not None:
        return _take_away(service, asked, out)
    found = service.all(requests.history(asked), limit)
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    headings = ("Build", "Began", "Machine", "File", "Made with", "Took", "Laid", "Came to", "Note")
    return show_table(headings, [_row(b) for b in found], "No build is like that.")


def _asked(service: Service, said: dict[str, Any], view: str | None) -> wh.BuildSearch:
    """What is asked for: what was saved, and what was said over it."""
    given = {name: value for name, value in said.items() if value is not None}
    for name in ("begin", "end"):
        if name in given:
            given[name] = given[name].astimezone()
    saved: dict[str, Any] = {}
    if view is not None:
        found = next((one for one in service.do(requests.saved_views()) if one.name == view), None)
        if found is None:
            fail(f"No view is saved as {view}; `chronarch history --saved` names those that are.", REFUSED)
        saved = found.asked.model_dump(exclude_defaults=True)
    return wh.BuildSearch.model_validate(saved | given)


def _show_saved(service: Service, as_json: bool) -> None:
    found = service.do(requests.saved_views())
    if as_json:
        return show_json(found)
    rows = [[v.name, _words(v.asked), v.saved_by, clock_time(v.saved_at)] for v in found]
    return show_table(("Name", "Asks for", "Saved by", "At"), rows, "No view is saved; --save NAME saves one.")


def _words(asked: wh.BuildSearch) -> str:
    said = asked.model_dump(mode="json", exclude_defaults=True)
    return ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in said.items()) or "everything"


def _row(b: Build) -> list[str]:
    used = ", ".join(f"{u.colour} {u.material}".strip() for u in b.uses)
    came = f"{b.verdict}{f': {b.scrap_reason}' if b.scrap_reason else ''}" if b.verdict else str(b.outcome or b.state)
    took = duration(b.took_s) if b.took_s is not None else ""
    laid = f"{b.grams:.1f} g" if b.outcome else ""
    note = " ".join([b.note.split("\n")[0][:60], *(f"#{tag}" for tag in b.tags)]).strip()
    return [str(b.id), clock_time(b.started_at), b.machine, b.file, used, took, laid, came, note]


def _take_away(service: Service, asked: wh.BuildSearch, out: Path) -> None:
    form = out.suffix.lower().removeprefix(".")
    if form not in list(wh.ExportForm):
        fail(f"{out.name} says no form; end it in .csv, .jsonl or .parquet.", WRONG_USE)
    count = service.client.save(requests.history_export(asked, wh.ExportForm(form)), out)
    say(f"{count:,} bytes are in {out}.")


@builds.command()
@click.argument("build")
@click.argument("text", required=False)
@click.option("--tag", "tags", multiple=True, help="Its tags from now on; may be given several times.")
@click.option("--no-tags", is_flag=True, help="Take its tags away.")
@pass_service
def note(service: Service, build: str, text: str | None, tags: tuple[str, ...], no_tags: bool) -> None:
    """Write a note beside a build, or give it tags, by which it is found again."""
    if text is None and not tags and not no_tags:
        raise click.UsageError("Say a note, --tag or --no-tags.")
    said = wh.BuildNote(note=text, tags=list(tags) if tags or no_tags else None)
    b = service.do(requests.annotate_build(build_number(service, build), said))
    say(f"Build {b.id}: {b.note or 'no note'}{''.join(f' #{tag}' for tag in b.tags)}")


@builds.command()
@click.argument("numbers", metavar="BUILD…", nargs=-1, required=True)
@click.option("--copies", type=click.IntRange(1, 1000), default=1, show_default=True, help="Of each.")
@pass_service
def again(service: Service, numbers: tuple[str, ...], copies: int) -> None:
    """Make builds again: each becomes a job of its own, with the same needs."""
    made = service.do(requests.make_again([build_number(service, one) for one in numbers], copies))
    for job in made:
        say(f"Job {job.id}: {job.copies} x {job.file}")
