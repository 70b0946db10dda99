"""`chronarch jobs`."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, limit_option, pass_service
from chronarch.cli.orders.words import needs, promise_text, range_text
from chronarch.cli.output import clock_time, duration, show_csv, show_facts, show_json, show_table
from chronarch.cli.plain import FINITE, say
from chronarch.cli.when import shop_time
from chronarch.client import requests
from chronarch.wire.orders import jobs as w


@click.group()
def jobs() -> None:
    """The queue: jobs and why they wait."""


@jobs.command()
@click.argument("file", required=False)
@click.option("--part", help="A part instead of a file: made from whichever of its files fits the machine.")
@click.option("--revision", type=int, help="Make all copies from this revision; each from the newest without it.")
@click.option("--copies", default=1, show_default=True)
@click.option("--material", default="", help="Any without it.")
@click.option("--colour", default="", help="Any without it.")
@click.option("--nozzle", type=FINITE, help="Nozzle diameter, mm; any without it.")
@click.option("--hardened", is_flag=True, help="Only a hardened nozzle will do.")
@click.option("--machine", default="", help="Only this machine.")
@click.option("--model", default="", help="Only machines of this model.")
@click.option("--pool", default="", help="Only machines of this pool.")
@click.option("--tags", default="", help="Only machines with these tags, joined by and, or, not.")
@click.option("--volume", type=FINITE, nargs=3, help="A build volume of at least X Y Z mm.")
@click.option("--due", help="By when: 2026-10-23 12:00, fri 12:00, 17:00.")
@click.option("--not-before", help="Start nothing of it before then.")
@click.option("--priority", type=click.IntRange(-2, 2), default=0, show_default=True)
@click.option("--held", is_flag=True, help="Queue it, but start nothing until it is released.")
@json_option
@pass_service
def submit(service: Service, file: str | None, part: str | None, revision: int | None, copies: int, material: str,
           colour: str, nozzle: float | None, hardened: bool, machine: str, model: str, pool: str, tags: str,
           volume: tuple[float, float, float] | None, due: str | None, not_before: str | None, priority: int,
           held: bool, as_json: bool) -> None:  # fmt: skip
    """Queue copies of a file, or of a part (its name or number)."""
    order = w.NewJob.model_validate(
        {
            "file": file,
            "part": part,
            "revision": revision,
            "copies": copies,
            "held": held,
            "requirement": {"material": material, "colour": colour, "nozzle_mm": nozzle, "hardened": hardened,
                            "machine": machine, "model": model, "pool": pool, "tags": tags,
                            "volume_mm": volume},
            "due": shop_time(service, due),
            "not_before": shop_time(service, not_before),
            "priority": priority,
        }
    )  # fmt: skip
    job = service.do(requests.submit(order))
    if as_json:
        return show_json(job)
    copies_text = "1 copy" if job.copies == 1 else f"{job.copies} copies"
    say(f"Job {job.id}: {copies_text} of {job.file}, {job.state}. {job.why}".strip())


def _job_rows(found: list[w.Job]) -> list[list[str | Text]]:
    return [
        [
            str(j.id),
            j.file,
            j.state,
            str(j.copies),
            str(j.good),
            str(j.building),
            str(j.waiting),
            needs(j.requirement),
            clock_time(j.due),
            range_text(j.expected) if j.state in ("waiting", "running") else "",
            promise_text(j.promise, j.chance),
            j.why,
        ]
        for j in found
    ]


@jobs.command("list")
@click.option("--all", "ended", is_flag=True, help="Finished and withdrawn ones too.")
@limit_option
@json_option
@click.option("--csv", "as_csv", is_flag=True, help="Print rows as CSV.")
@pass_service
def list_jobs(service: Service, ended: bool, limit: int | None, as_json: bool, as_csv: bool) -> None:
    """Jobs in the order of the queue."""
    found = service.all(requests.jobs(ended), limit)
    if as_json:
        return show_json(found)
    if as_csv:
        return show_csv(found)
    show_table(
        (
            "Job",
            "File",
            "State",
            "Copies",
            "Good",
            "Building",
            "Waiting",
            "Needs",
            "Due",
            "Expected",
            "Promise",
            "Why it waits",
        ),
        _job_rows(found),
        "Nothing is queued. Queue copies with `chronarch jobs submit FILE`.",
    )


@jobs.command("show")
@click.argument("number", type=int)
@json_option
@pass_service
def show_job(service: Service, number: int, as_json: bool) -> None:
    """One job: its copies, and why it waits."""
    j = service.do(requests.job(number))
    if as_json:
        return show_json(j)
    show_facts(
        [
            ("Job", f"{j.id}, queued {clock_time(j.created_at)} by {j.created_by}"),
            ("Part" if j.part_id else "File", f"{j.file}{_follows(j)}"),
            ("State", j.state),
            ("Copies", f"{j.copies}: {j.good} good, {j.building} building, {j.waiting} waiting"),
            ("Needs", needs(j.requirement)),
            ("One build takes", f"{duration(j.planned_s)}{f' and yields {j.pieces}' if j.pieces > 1 else ''}"),
            ("Order", f"{j.order} for {j.customer}" if j.order else ""),
            ("Due", clock_time(j.due)),
            ("Expected", range_text(j.expected) if j.state in ("waiting", "running") else ""),
            ("Why it waits", j.why),
        ]
    )


def _follows(j: w.Job) -> str:
    """Which revision waiting copies are made from."""
    if j.revision is None:
        return ""
    return f", revision {j.revision}, {'pinned' if j.pinned else 'follows the newest'}"


@jobs.command("why")
@click.argument("number", type=int)
@json_option
@pass_service
def why(service: Service, number: int, as_json: bool) -> None:
    """Why a job waits: every machine with its reasons, and the smallest change that would start it."""
    found = service.do(requests.job_why(number))
    if as_json:
        return show_json(found)
    say(found.why)
    if found.next:
        say(f"It is {found.next}.")
    if found.change:
        say(f"To start it now: {found.change}.")
    if found.machines:
        say()
        rows = [[m.machine, "; ".join(m.reasons), m.change] for m in found.machines]
        show_table(("Machine", "Why not now", "What hands could do"), rows, "")


@jobs.command("move")
@click.argument("numbers", type=int, nargs=-1, required=True)
@click.option("--before", type=int, help="Before this job; at the end of the line without it.")
@pass_service
def move(service: Service, numbers: tuple[int, ...], before: int | None) -> None:
    """Move jobs to another place in the queue."""
    line = service.do(requests.move_jobs(list(numbers), before))
    say("The line: " + ", ".join(str(j.id) for j in line.jobs))


@jobs.command("top")
@click.argument("numbers", type=int, nargs=-1, required=True)
@click.option(
    "--undo", is_flag=True, help="Let the strategy decide about them again; they keep their place in the line."
)
@pass_service
def top(service: Service, numbers: tuple[int, ...], undo: bool) -> None:
    """Put jobs before everything else, whatever the strategy."""
    line = service.do(requests.batch_jobs(w.JobBatch(jobs=list(numbers), wish="untop" if undo else "top")))
    say("The line: " + ", ".join(str(j.id) for j in line.jobs))


@jobs.command("change")
@click.argument("number", type=int)
@click.option("--copies", type=int)
@click.option("--due", help="By when; 'none' takes the due time away.")
@click.option("--not-before", help="Not before then; 'none' takes it away.")
@click.option("--priority", type=click.IntRange(-2, 2))
@click.option("--note")
@pass_service
def change(service: Service, number: int, copies: int | None, due: str | None, not_before: str | None,
           priority: int | None, note: str | None) -> None:  # fmt: skip
    """Change how many copies of a job are wanted, by when, or how urgent it is."""
    given: dict[str, object] = {"copies": copies, "priority": priority, "note": note}
    given = {k: v for k, v in given.items() if v is not None}
    for name, text in (("due", due), ("not_before", not_before)):
        if text is not None:
            given[name] = None if text == "none" else shop_time(service, text)
    if not given:
        raise click.UsageError("Say what is to be changed: --copies, --due, --not-before, --priority, --note.")
    j = service.do(requests.change_job(number, w.JobChange.model_validate(given)))
    say(f"Job {j.id}: {j.good} of {j.copies} good, {j.waiting} waiting. {j.why}".strip())


@jobs.command()
@click.argument("number", type=int)
@click.argument("revision", type=int)
@pass_service
def pin(service: Service, number: int, revision: int) -> None:
    """Make the waiting copies of a job from one revision of its file; 0 follows the newest again."""
    j = service.do(requests.pin_job(number, revision))
    say(f"Job {j.id}: {j.file}{_follows(j)}.")


def _wish(wish: str, text: str) -> None:
    @jobs.command(wish, help=text)
    @click.argument("number", type=int)
    @pass_service
    def wished(service: Service, number: int) -> None:
        j = service.do(requests.act_on_job(number, wish))
        say(f"Job {j.id} is {j.state}.")


_wish("hold", "Start no further copy until it is released.")
_wish("release", "Let a held job run again.")
_wish("withdraw", "Start no further copy, for good; builds that run go on.")
