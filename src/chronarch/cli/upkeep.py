"""`chronarch upkeep`: what is due at the machines, what was done, and how long parts last; `chronarch calibration`."""

from __future__ import annotations

from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import click

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, duration, show_facts, show_json, show_table
from chronarch.cli.plain import say
from chronarch.cli.when import shop_time
from chronarch.client import requests
from chronarch.core.machines.upkeep_calls import Blocks
from chronarch.wire.upkeep import tasks as w
from chronarch.wire.upkeep.windows import NewUpkeep

SOURCES = ("hand", "level map", "heating")
PICTURE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group(invoke_without_command=True)
@click.pass_context
def upkeep(ctx: click.Context) -> None:
    """Upkeep: what is due at which machine and when, what was done, and how long parts last."""
    if ctx.invoked_subcommand is None:
        ctx.invoke(due)


@upkeep.command("due")
@click.argument("machine", default="")
@json_option
@pass_service
def due(service: Service, machine: str, as_json: bool) -> None:
    """How near each task is to being due, the nearest first, and when it would cost least production."""
    found = service.do(requests.upkeep_due(machine))
    if as_json:
        return show_json(found)
    now = service.do(requests.shop()).now
    rows = [
        [str(one.task), one.machine, one.name, _share(one), one.out or one.text, _when(one, now), _best(one, now)]
        for one in found
    ]
    none = 'There are no tasks. Add one, like `chronarch upkeep add "clean the nozzle" --hours 200`.'
    show_table(("Task", "Machine", "What", "Used", "Of", "Due", "Costs least"), rows, none)
    return None


def _share(one: w.DueTask) -> str:
    return "" if one.share is None else f"{one.share:.0%}"


def _when(one: w.DueTask, now: datetime) -> str:
    if one.out:
        return "now: out of tolerance"
    if one.due:
        over = (now - one.due_at).total_seconds() if one.due_at else 0
        late = f"since {duration(over)}" if over >= 3600 else "now"
        return late if one.blocks is Blocks.NOTHING else f"{late}, {one.blocks}"
    return clock_time(one.due_at, now) if one.due_at else "not within a year"


def _best(one: w.DueTask, now: datetime) -> str:
    if one.window:
        return f"kept free {clock_time(one.window.begin, now)}"
    if one.offer is None:
        return ""
    costs = f", delays work {one.offer.costs_min:.0f} min" if one.offer.costs_min >= 1 else ""
    return f"{clock_time(one.offer.begin, now)}{costs}"


@upkeep.command("tasks")
@json_option
@pass_service
def tasks(service: Service, as_json: bool) -> None:
    """All tasks: for which machines, when they are due, and what they do to a machine then."""
    found = [one for one in service.do(requests.upkeep_tasks()) if one.check is None]
    if as_json:
        return show_json(found)
    rows = [
        [str(one.id), one.name, one.machine or one.model or "all", due_words(one.due), f"{one.minutes:g} min",
         one.part, one.blocks]
        for one in found
    ]  # fmt: skip
    show_table(("Task", "What", "Of", "Due", "Takes", "New part", "Blocks"), rows, "There are no tasks.")
    return None


def due_words(when: w.DueWhen) -> str:
    said = [f"{value:g} {unit}" for value, unit in ((when.hours, "h"), (when.builds, "builds"), (when.metres, "m"),
                                                   (when.days, "days")) if value]  # fmt: skip
    said += [f"after {word!r}" for word in when.faults]
    return " or ".join(said)


def _due_options(command: Any) -> Any:
    """After how much it is due."""
    for option in (
        click.option("--fault", "faults", multiple=True, help="A word of why a machine goes down: due at once then."),
        click.option("--days", type=float, help="Due after so many days."),
        click.option("--metres", type=float, help="Due after so much filament; abrasive counts eight times."),
        click.option("--builds", type=int, help="Due after so many builds."),
        click.option("--hours", type=float, help="Due after so many hours of warming and building."),
        click.option("--minutes", type=float, default=15.0, show_default=True, help="How long it takes."),
        click.option("--blocks", type=click.Choice([str(one) for one in Blocks]), default="nothing",
                     show_default=True, help="What it does to the machine once it is due."),
        click.option("--text", default="", help="What to do."),
        click.option("--machine", default="", help="Only for this machine."),
        click.option("--model", default="", help="For machines of this model."),
    ):  # fmt: skip
        command = option(command)
    return command


def _new_task(name: str, said: dict[str, Any], **more: Any) -> w.NewUpkeepTask:
    rules = {key: said.pop(key) for key in ("hours", "builds", "metres", "days")}
    return w.NewUpkeepTask.model_validate(
        {"name": name, "due": {**rules, "faults": list(said.pop("faults"))}, **said, **more}
    )


@upkeep.command("add")
@click.argument("name")
@_due_options
@click.option("--part", default="", help="The wear part that is replaced, like nozzle.")
@click.option("--needs", multiple=True, help="What is needed for it.")
@click.option("--picture", "pictures", type=PICTURE, multiple=True, help="Shows what to do.")
@json_option
@pass_service
def add(service: Service, /, name: str, part: str, needs: tuple[str, ...], pictures: tuple[Path, ...], as_json: bool,
        **said: Any) -> None:  # fmt: skip
    """Add a task: at one machine, all of a model, or all.

    Examples: `upkeep add "clean the nozzle" --hours 200`, `upkeep add "new belts" --model "Kiln 250" --hours 4000
    --part belt --blocks warns --minutes 45`, `upkeep add "check the hot end" --fault thermal --blocks closes`."""
    made = service.do(requests.add_upkeep_task(_new_task(name, said, part=part, parts=list(needs))))
    for picture in pictures:
        made = service.do(requests.add_upkeep_picture(made.id, picture.read_bytes()))
    if as_json:
        return show_json(made)
    say(f"Task {made.id}, {made.name}: due after {due_words(made.due)}.")
    return None


@upkeep.command("drop")
@click.argument("task", type=click.IntRange(1))
@pass_service
def drop(service: Service, task: int) -> None:
    """Have a task or check due no more. What was done of it stays in the log."""
    say(service.do(requests.drop_upkeep_task(task)).text)


@upkeep.command("plan")
@click.argument("machine")
@click.argument("task", type=click.IntRange(1))
@click.option("--at", help="Another time than the one that costs least.")
@json_option
@pass_service
def plan(service: Service, machine: str, task: int, at: str | None, as_json: bool) -> None:
    """Keep MACHINE free for TASK when it costs least production: no build starts that would reach into it."""
    found = next((one for one in service.do(requests.upkeep_due(machine)) if one.task == task), None)
    if found is None:
        raise click.ClickException(f"Task {task} is not for {machine}; `chronarch upkeep due {machine}` shows its own.")
    if at is not None:
        begin = shop_time(service, at)
        assert begin is not None
        end = begin + _takes(found)
    elif found.window is not None:
        raise click.ClickException(f"{found.machine} is kept free for it already.")
    elif found.offer is None:
        text = "Nobody is there for long enough before it is due" if found.due_at else "It will not be due soon"
        raise click.ClickException(f"{text}; say when with --at.")
    else:
        begin, end = found.offer.begin, found.offer.end
    made = service.do(requests.add_upkeep_window(NewUpkeep(machine=found.machine, begin=begin, end=end, task=task)))
    if as_json:
        return show_json(made)
    now = service.do(requests.shop()).now
    span = f"{clock_time(made.begin, now)} to {clock_time(made.end, now)}"
    say(f"{made.machine} is kept free for {made.text} from {span}.")
    return None


def _takes(one: w.DueTask) -> timedelta:
    return timedelta(minutes=max(one.minutes, 5.0))


@upkeep.command("done")
@click.argument("machine")
@click.argument("what")
@click.option("--note", default="", help="What was found.")
@click.option("--used", multiple=True, help="A part that was used.")
@click.option("--part", default="", help="The wear part that was replaced, if the task does not say.")
@click.option("--not-worn", is_flag=True, help="The part that came off was not worn out.")
@click.option("--minutes", type=float, help="How long it took.")
@click.option("--at", help="When, if not now.")
@click.option("--photo", type=PICTURE, help="How it was.")
@json_option
@pass_service
def done(service: Service, machine: str, what: str, note: str, used: tuple[str, ...], part: str, not_worn: bool,
         minutes: float | None, at: str | None, photo: Path | None, as_json: bool) -> None:  # fmt: skip
    """Say that WHAT was done at MACHINE: a task by its number, or anything else in words."""
    which = {"task": int(what)} if what.isdecimal() else {"name": what}
    asked = w.NewUpkeepDone.model_validate({
        "machine": machine, **which, "note": note, "parts": list(used), "part": part, "worn": not not_worn,
        "minutes": minutes, "at": shop_time(service, at) if at else None,
    })  # fmt: skip
    made = service.do(requests.upkeep_done(asked))
    if photo is not None:
        made = service.do(requests.put_upkeep_photo(made.id, photo.read_bytes()))
    if as_json:
        return show_json(made)
    late = f", {made.late - 1:.0%} late" if made.late is not None and made.late > 1.005 else ""
    say(f"Noted as {made.id}: {made.name} at {made.machine}{late}.")
    return None


@upkeep.command("undo")
@click.argument("number", type=click.IntRange(1))
@pass_service
def undo(service: Service, number: int) -> None:
    """Take back that something was done; its number stands in the log."""
    say(service.do(requests.undo_upkeep(number)).text)


@upkeep.command("log")
@click.argument("machine", default="")
@click.option("--last", type=click.IntRange(1, 10_000), default=40, show_default=True)
@json_option
@pass_service
def log(service: Service, machine: str, last: int, as_json: bool) -> None:
    """What was done at the machines, newest first; of one machine, with its faults, over its life."""
    found = service.all(requests.upkeep_log(machine), last)
    if as_json:
        return show_json(found)
    rows = [[clock_time(one.at), one.machine, *_entry(one)] for one in found]
    show_table(("When", "Machine", "What", "", "By", "Number"), rows, "Nothing was done yet.")
    return None


def _entry(one: w.UpkeepLogEntry) -> list[str]:
    if one.done is None:
        lasted = f"for {duration(60 * one.lasted_min)}" if one.lasted_min is not None else "it still is"
        return [f"went down: {one.fault}", lasted, "", ""]
    d = one.done
    said = [f"{d.value:g} {d.unit}".strip()] if d.value is not None else []
    said += [f"{d.late - 1:.0%} late"] if d.late is not None and d.late > 1.005 else []
    said += [f"new {d.part}" + ("" if d.worn else " (the old one was not worn out)")] if d.part else []
    said += [f"used {', '.join(d.parts)}"] if d.parts else []
    said += [d.note] if d.note else []
    return [d.name, "; ".join(said), d.by, str(d.id)]


@upkeep.command("parts")
@click.argument("machine", default="")
@json_option
@pass_service
def parts(service: Service, machine: str, as_json: bool) -> None:
    """Wear parts: since when each is on its machine, what it has done, and how long such parts last."""
    found = service.do(requests.upkeep_parts(machine))
    if as_json:
        return show_json(found)
    rows = [
        [one.machine, one.part, clock_time(one.fitted) if one.fitted else "before the records", one.text,
         "" if one.left is None else f"{one.left:.0%}",
         ", ".join(f"{grams:,.0f} g {name}" for name, grams in sorted(one.grams.items(), key=lambda g: -g[1]))]
        for one in found
    ]  # fmt: skip
    none = "No part was replaced yet, and no task replaces one."
    show_table(("Machine", "Part", "Fitted", "Hours", "Lasts 100 h more", "Has laid"), rows, none)
    return None


@upkeep.command("late")
@json_option
@pass_service
def late(service: Service, as_json: bool) -> None:
    """How late each task was done, and whether machines went down more often while it was overdue."""
    found = service.do(requests.upkeep_lateness())
    if as_json:
        return show_json(found)
    rows = [
        [one.name, str(one.lateness.times), str(one.lateness.late),
         f"{one.lateness.days:.1f} days" if one.lateness.late else "",
         _faults(one.lateness.faults_overdue), _faults(one.lateness.faults_else)]
        for one in found
    ]  # fmt: skip
    heads = "Task", "Done", "Late", "By, on average", "Faults in 100 days overdue", "Else"
    show_table(heads, rows, "No task was done twice yet.")
    return None


def _faults(rate: float | None) -> str:
    return "" if rate is None else f"{rate:.1f}"


@click.group(invoke_without_command=True)
@click.pass_context
def calibration(ctx: click.Context) -> None:
    """Calibration checks: what they measured, whether it drifts, and what is out of tolerance."""
    if ctx.invoked_subcommand is None:
        ctx.invoke(show)


@calibration.command("show")
@click.argument("machine", default="")
@json_option
@pass_service
def show(service: Service, machine: str, as_json: bool) -> None:
    """The newest value of each check at each machine, beside nominal, tolerance and what it used to be."""
    found = service.do(requests.calibration(machine))
    if as_json:
        return show_json(found)
    rows = [
        [str(one.task), one.machine, one.name, f"{one.nominal:g} ± {one.tolerance:g} {one.unit}".strip(), one.text,
         one.verdict or "", clock_time(one.readings[-1].at) if one.readings else ""]
        for one in found
    ]  # fmt: skip
    none = 'There are no checks. Add one, like `chronarch calibration add "cube, X" 20 0.2 --unit mm --days 30`.'
    show_table(("Check", "Machine", "What", "Should be", "Is", "", "When"), rows, none)
    return None


@calibration.command("add")
@click.argument("name")
@click.argument("nominal", type=float)
@click.argument("tolerance", type=click.FloatRange(0, min_open=True))
@click.option("--unit", default="", help="Of what is measured, like mm.")
@click.option(
    "--by",
    "source",
    type=click.Choice(SOURCES),
    default="hand",
    show_default=True,
    help="Who measures: a person, the machine's level maps (their range), or how long its hot end heats.",
)
@_due_options
@json_option
@pass_service
def add_check(service: Service, /, name: str, nominal: float, tolerance: float, unit: str, source: str, as_json: bool,
              **said: Any) -> None:  # fmt: skip
    """Add a check: NOMINAL is what should be measured, TOLERANCE how far off it may be."""
    check = {"nominal": nominal, "tolerance": tolerance, "unit": unit, "source": source}
    made = service.do(requests.add_upkeep_task(_new_task(name, said, check=check)))
    if as_json:
        return show_json(made)
    say(f"Check {made.id}, {made.name}: {nominal:g} ± {tolerance:g} {unit}, due after {due_words(made.due)}.")
    return None


@calibration.command("record")
@click.argument("machine")
@click.argument("check", type=click.IntRange(1))
@click.argument("value", type=float)
@click.option("--note", default="")
@click.option("--at", help="When, if not now.")
@json_option
@pass_service
def record(service: Service, machine: str, check: int, value: float, note: str, at: str | None,
           as_json: bool) -> None:  # fmt: skip
    """Write down the VALUE that a CHECK measured at MACHINE; what it means is said."""
    when = shop_time(service, at) if at else None
    service.do(requests.upkeep_done(w.NewUpkeepDone(machine=machine, task=check, value=value, note=note, at=when)))
    found = next(one for one in service.do(requests.calibration(machine)) if one.task == check)
    if as_json:
        return show_json(found)
    say(f"{found.name} at {found.machine}: {found.verdict}, {found.text}.")
    return None


@calibration.command("trend")
@click.argument("machine")
@click.argument("check", type=click.IntRange(1))
@json_option
@pass_service
def trend(service: Service, machine: str, check: int, as_json: bool) -> None:
    """All kept values of a CHECK at MACHINE, oldest first, with the limits in which they used to lie."""
    found = next((one for one in service.do(requests.calibration(machine)) if one.task == check), None)
    if found is None:
        raise click.ClickException(f"Check {check} is not for {machine}; `chronarch calibration` shows its own.")
    if as_json:
        return show_json(found)
    limits = found.limits
    show_facts((
        ("Should be", f"{found.nominal:g} ± {found.tolerance:g} {found.unit}"),
        ("Used to lie", f"{limits.low:.4g} to {limits.high:.4g} {found.unit}" if limits else ""),
        ("Now", f"{found.verdict or ''} {found.text}".strip()),
    ))  # fmt: skip
    say()
    rows = [[clock_time(one.at), f"{one.value:g}", one.by, one.note] for one in found.readings]
    show_table(("When", f"Value, {found.unit}" if found.unit else "Value", "By", "Note"), rows, "Never measured.")
    return None
