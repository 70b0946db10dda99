"""`chronarch demo`: the demo shop."""

from __future__ import annotations

import json
import shutil
from dataclasses import replace
from pathlib import Path

import click
import httpx

from chronarch.core.clock import real_clock
from chronarch.demo.hands import send_hands
from chronarch.demo.start import DemoFailed, is_listening, run_demo
from chronarch.records.ports import NoFreePort

FOLDER = Path("var/demo")


@click.group()
def demo() -> None:
    """The demo shop, Marrow Lane Fabrication."""


def _check_rate(context: click.Context, option: click.Parameter, rate: float) -> float:
    try:
        replace(real_clock(), rate=rate)
    except ValueError as error:
        raise click.BadParameter(str(error)) from None
    return rate


@demo.command()
@click.option("--folder", type=click.Path(path_type=Path), default=FOLDER, show_default=True)
@click.option("--rate", default=30.0, show_default=True, callback=_check_rate, help="Shop seconds in one real second.")
def run(folder: Path, rate: float) -> None:
    """Open the shop; Ctrl-C closes it. A second start finds its data again."""
    try:
        run_demo(folder, rate)
    except (DemoFailed, NoFreePort) as error:
        click.echo(str(error), err=True)
        raise SystemExit(1) from None


@demo.command()
@click.argument("where", type=click.Choice(["away", "back"]))
@click.option("--folder", type=click.Path(path_type=Path), default=FOLDER, show_default=True)
def hands(where: str, folder: Path) -> None:
    """Send the simulated hands away, or have them back: they do the rounds in staffed hours."""
    if not (folder / "kept.json").exists():
        click.echo("There is no demo here; `make demo` opens it.", err=True)
        raise SystemExit(1)
    send_hands(folder / "hands.json", away=where == "away")
    click.echo(
        "The simulated hands are away: the rounds are yours." if where == "away" else "They do the rounds again."
    )


@demo.command()
@click.argument("number", type=click.IntRange(min=1), required=False)
@click.option("--folder", type=click.Path(path_type=Path), default=FOLDER, show_default=True)
@click.option("--html", type=click.Path(dir_okay=False, path_type=Path), help="Write the mail here, to open it.")
def mail(number: int | None, folder: Path, html: Path | None) -> None:
    """What was mailed: a list, newest first, or the mail of a NUMBER. Nothing leaves the demo."""
    try:
        port = json.loads((folder / "kept.json").read_text())["standins_port"]
        found = httpx.get(f"http://127.0.0.1:{port}/mail", timeout=10).json()
    except (OSError, KeyError, httpx.HTTPError):
        click.echo("No demo is running here; `make demo` opens it.", err=True)
        raise SystemExit(1) from None
    if number is None:
        for one in reversed(found):
            click.echo(f"{one['number']:4}  {one['to']}  {one['subject']}")
        click.echo("Nothing was mailed yet." if not found else "One of them: chronarch demo mail NUMBER")
        return
    one = next((mail for mail in found if mail["number"] == number), None)
    if one is None:
        click.echo(f"There is no mail {number}.", err=True)
        raise SystemExit(1)
    if html is not None:
        html.write_text(one["html"])
        click.echo(f"Written to {html}; its {one['pictures']} pictures are in the mail itself.")
        return
    click.echo(f"To: {one['to']}\nFrom: {one['from']}\nSubject: {one['subject']}\n\n{one['text']}")


@demo.command()
@click.option("--folder", type=click.Path(path_type=Path), default=FOLDER, show_default=True)
def reset(folder: Path) -> None:
    """Delete the data of the demo, so that the next start begins anew."""
    kept = folder / "kept.json"
    if not kept.exists():
        click.echo("There is no demo data; `make demo` makes it.")
        return
    if is_listening(json.loads(kept.read_text())["port"]):
        click.echo("The demo is running; stop it with Ctrl-C first.", err=True)
        raise SystemExit(1)
    shutil.rmtree(folder)
    click.echo("The demo's data is gone; `make demo` begins anew.")


@demo.command("labelled-frames")
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path))
@click.option(
    "--part",
    type=click.Choice(["tuning", "unseen"]),
    default="unseen",
    show_default=True,
    help="What the watch was tuned on, or what nothing of occurs in that.",
)
@click.option(
    "--each", type=click.IntRange(1, 1000), default=10, show_default=True, help="Sequences of each kind of failure."
)
@click.option(
    "--good-hours", type=click.FloatRange(0, 10_000), default=10.0, show_default=True, help="Hours of good building."
)
@click.option(
    "--seed", type=click.IntRange(0, 10_000), default=0, show_default=True, help="Another number draws other builds."
)
def labelled_frames(folder: Path, part: str, each: int, good_hours: float, seed: int) -> None:
    """Draw labelled frames of builds that go well and builds that fail, for `chronarch watch score`."""
    from chronarch.demo.labelled_sets import make_set

    if folder.exists() and any(folder.iterdir()):
        click.echo(f"{folder} is not empty; name another folder.", err=True)
        raise SystemExit(1)
    count = make_set(folder, part, each, good_hours, seed)  # type: ignore[arg-type]
    click.echo(f"{count} pictures are in {folder}; `chronarch watch score {folder}` runs the watch over them.")
