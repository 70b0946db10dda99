"""`chronarch channels`: the ways in which people and the shop are reached."""

from __future__ import annotations

import click
from rich.text import Text

from chronarch.cli.context import Service, json_option, pass_service
from chronarch.cli.output import clock_time, show_json, show_table
from chronarch.cli.plain import say
from chronarch.client import requests
from chronarch.wire.notices import channels as w
from chronarch.wire.notices.channels import ChannelKind

NUMBER = click.IntRange(min=1)
BY_ADDRESS = (ChannelKind.MAIL, ChannelKind.CHAT, ChannelKind.ROOM, ChannelKind.WEBHOOK)
"""What is added here. Only a browser can add itself."""
SECURITY = click.option(
    "--security", type=click.Choice(["starttls", "tls", "none"]), default="starttls", show_default=True,
    help="How the conversation is kept secret.",
)  # fmt: skip
PASSWORD = click.option("--password", help="Its password; `-` asks for it. Without this option it stays as it was.")


@click.group()
def channels() -> None:
    """Channels: mail, chat and webhooks, whether they arrive, and the shop's servers for them."""


@channels.command("list")
@json_option
@pass_service
def list_channels(service: Service, as_json: bool) -> None:
    """All channels, and how each stands."""
    found = service.do(requests.channels())
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [str(c.id), c.person or "the shop", c.kind, c.name, c.address, str(c.waiting), str(c.dead), _stands(c)]
        for c in found
    ]
    return show_table(("Id", "Who", "Kind", "Name", "Leads to", "Waiting", "Given up", "Stands"), rows, "None yet.")


def _stands(one: w.Channel) -> Text:
    if not one.on:
        return Text("off", style="yellow")
    if one.problem:
        return Text(f"failing since {clock_time(one.failing_since)}: {one.problem}", style="red")
    return Text("on")


@channels.command("add")
@click.argument("kind", type=click.Choice([str(k) for k in BY_ADDRESS]))
@click.argument("address")
@click.option("--person", default="", help="What the person signs in with who is reached; without it, the shop.")
@click.option("--name", default="", help="What it is called.")
@pass_service
def add(service: Service, kind: str, address: str, person: str, name: str) -> None:
    """Add a mail or chat address, a chat room, or a URL that events are sent to."""
    asked = w.NewChannel.model_validate({"person": person, "kind": kind, "address": address, "name": name})
    made = service.do(requests.add_channel(asked))
    say(f"Channel {made.id} for {made.person or 'the shop'}: {made.address}. Try it: chronarch channels test {made.id}")
    if made.secret:
        say(f"Events are signed with {made.secret}; it is shown this once.")


@channels.command()
@click.argument("number", type=NUMBER)
@click.option("--name", help="Another name.")
@click.option("--address", help="Another address.")
@click.option("--on/--off", "on", default=None, help="Whether anything is sent over it.")
@pass_service
def change(service: Service, number: int, name: str | None, address: str | None, on: bool | None) -> None:
    """Change a channel."""
    asked = w.ChannelChange.model_validate({"name": name, "address": address, "on": on})
    one = service.do(requests.change_channel(number, asked))
    say(f"Channel {one.id} ({one.name}) leads to {one.address or 'the page'}; {'on' if one.on else 'off'}.")


@channels.command()
@click.argument("number", type=NUMBER)
@pass_service
def remove(service: Service, number: int) -> None:
    """Remove a channel, and rules that tell over it alone."""
    say(service.do(requests.remove_channel(number)).text)


@channels.command()
@click.argument("number", type=NUMBER)
@pass_service
def test(service: Service, number: int) -> None:
    """Send a test message now. Exit code 1 when it does not arrive."""
    tried = service.do(requests.try_channel(number))
    say(f"{'Arrived' if tried.good else 'Did not arrive'} within {tried.took_s:.1f} s: {tried.answer}")
    if not tried.good:
        raise SystemExit(1)


@channels.command("log")
@click.argument("number", type=NUMBER)
@click.option("--limit", type=click.IntRange(min=1), default=30, show_default=True, help="At most so many.")
@json_option
@pass_service
def channel_log(service: Service, number: int, limit: int, as_json: bool) -> None:
    """Each try to send and what was answered, newest first."""
    found = service.all(requests.channel_log(number), limit)
    if as_json:
        return show_json(found)
    rows: list[list[str | Text]] = [
        [
            clock_time(one.at), str(one.notices) if one.notices else "test", one.subject,
            Text("taken" if one.good else "failed", style="" if one.good else "red"), one.answer,
        ]
        for one in found
    ]  # fmt: skip
    return show_table(("When", "Notices", "Subject", "Came", "Answer"), rows, "Nothing was sent yet.")


@channels.command()
@click.argument("number", type=NUMBER)
@pass_service
def again(service: Service, number: int) -> None:
    """Send what was given up once more."""
    many = service.do(requests.send_again(number)).again
    say(f"{many} thing{'s' * (many != 1)} to be sent again." if many else "Nothing was given up.")


@channels.command("new-secret")
@click.argument("number", type=NUMBER)
@pass_service
def new_secret(service: Service, number: int) -> None:
    """Give a webhook a new secret; events are signed with the one before too, until the next."""
    made = service.do(requests.new_channel_secret(number))
    say(f"Events of channel {number} are signed with {made.secret} from now on; it is shown this once.")


@channels.command("settings")
@click.option("--address", help="Where people reach this service; links in messages begin with it.")
@click.option("--local-webhooks/--no-local-webhooks", default=None, help="Whether webhooks may lead to this computer.")
@click.option("--spool-low", type=click.FloatRange(0, 100_000), help="Grams below which a loaded spool is low.")
@click.option(
    "--without", multiple=True, type=click.Choice(["mail", "chat"]), help="Forget the mail server, or the chat account."
)
@json_option
@pass_service
def settings(
    service: Service, address: str | None, local_webhooks: bool | None, spool_low: float | None,
    without: tuple[str, ...], as_json: bool,
) -> None:  # fmt: skip
    """Show what the shop has decided, or change it."""
    change = {
        "address": address,
        "local_webhooks": local_webhooks,
        "spool_low_g": spool_low,
        "without": list(without) or None,
    }
    if any(value is not None for value in change.values()):
        found = service.do(requests.change_notice_settings(w.NoticeSettingsUpdate.model_validate(change)))
    else:
        found = service.do(requests.notice_settings())
    if as_json:
        return show_json(found)
    say(f"Links begin with: {found.address or 'nothing yet, so messages have none'}")
    mail = found.mail
    sign_in = f" as {mail.login}" if mail and mail.login else ""
    say(f"Mail server: {f'{mail.host}:{mail.port} ({mail.security}){sign_in}, from {mail.sender}' if mail else 'none'}")
    say(f"Chat account: {_chat_stands(found)}")
    say(f"Webhooks to this computer: {'allowed' if found.local_webhooks else 'refused'}")
    return say(f"A spool is low below {found.spool_low_g:.0f} g.")


def _chat_stands(found: w.NoticeSettings) -> str:
    if found.chat is None:
        return "none"
    where = f", by {found.chat.host}:{found.chat.port}" if found.chat.host else ""
    stands = f"not in the chat: {found.chat_problem}" if found.chat_problem else "in the chat"
    return f"{found.chat.address} ({found.chat.security}{where}), {stands}"


@channels.command("mail-server")
@click.argument("host")
@click.option("--port", type=click.IntRange(1, 65535), default=587, show_default=True)
@SECURITY
@click.option("--login", default="", help="What we sign in with.")
@PASSWORD
@click.option("--sender", required=True, help="The address that mail comes from.")
@pass_service
def mail_server(
    service: Service, host: str, port: int, security: str, login: str, password: str | None, sender: str
) -> None:
    """Say which server takes the shop's mail."""
    password = _asked_for(password)
    asked = {"host": host, "port": port, "security": security, "login": login, "password": password, "sender": sender}
    service.do(requests.change_notice_settings(w.NoticeSettingsUpdate.model_validate({"mail": asked})))
    say(f"Mail goes through {host}:{port}. Add an address with `chronarch channels add mail ADDRESS --person LOGIN`.")


@channels.command("chat-account")
@click.argument("address")
@click.option("--host", default="", help="The chat server, where it is not found by the address.")
@click.option("--port", type=click.IntRange(1, 65535), default=5222, show_default=True)
@SECURITY
@PASSWORD
@pass_service
def chat_account(service: Service, address: str, host: str, port: int, security: str, password: str | None) -> None:
    """Say which account the shop chats with (XMPP)."""
    asked = {"address": address, "host": host, "port": port, "security": security, "password": _asked_for(password)}
    service.do(requests.change_notice_settings(w.NoticeSettingsUpdate.model_validate({"chat": asked})))
    say(f"The shop chats as {address}. Add an address with `chronarch channels add chat ADDRESS --person LOGIN`.")


def _asked_for(password: str | None) -> str | None:
    typed: str | None = click.prompt("Password", hide_input=True) if password == "-" else password
    return typed
