"""Mail: SMTP (RFC 5321) to the shop's mail server, with plain text and HTML side by side and pictures inline."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime

import aiosmtplib
from jinja2 import Environment, PackageLoader, StrictUndefined

from chronarch.core.clock import Clock
from chronarch.core.notices.kinds import Gravity
from chronarch.service.notices.channels.sending import NotSent, Refused, Sending, Unsure
from chronarch.service.notices.messages import Message
from chronarch.service.secrets import SecretLost, Secrets
from chronarch.wire.notices.channels import StoredNoticeSettings

WITHIN_S = 20.0
"""Real seconds for each step of the conversation."""
IMPORTANCE = {Gravity.URGENT: "high", Gravity.ACT: "high"}
LATER = range(400, 500)
NO_SERVER = "the shop has no mail server set up; add one in Set-up, Notices"
_templates = Environment(
    loader=PackageLoader("chronarch.service.notices"), autoescape=lambda name: bool(name and name.endswith(".html")),
    undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True,
)  # fmt: skip


@dataclass
class MailSender:
    """`clock` says the date of a mail: real time."""

    clock: Clock
    secrets: Secrets
    gathers = True

    async def send(self, sending: Sending) -> str:
        if sending.settings.mail is None:
            raise NotSent(NO_SERVER)
        sender, now = sending.settings.mail.sender, self.clock.real_now()
        mail = await asyncio.to_thread(written, sending.message, sender, sending.channel.shown, now)
        return await self.post(mail, sending.settings)

    async def post(self, mail: EmailMessage, settings: StoredNoticeSettings) -> str:
        """Hand a mail over to the shop's mail server; what it answered. Raises NotSent, Unsure, Refused."""
        server = settings.mail
        if server is None:
            raise NotSent(NO_SERVER)
        try:
            password = self.secrets.open(settings.mail_password.encode()) if server.has_password else None
        except SecretLost as lost:
            raise NotSent(f"the mail server's password is lost: {lost}") from None
        client = aiosmtplib.SMTP(
            hostname=server.host, port=server.port, timeout=WITHIN_S, use_tls=server.security == "tls",
            start_tls=server.security == "starttls",
        )  # fmt: skip
        handed_over = False
        try:
            async with asyncio.timeout(3 * WITHIN_S):
                await client.connect()
                if server.login and password is not None:
                    await client.login(server.login, password)
                handed_over = True
                _, answer = await client.send_message(mail)
                handed_over = False
        except aiosmtplib.SMTPRecipientsRefused as error:
            first = error.recipients[0]
            raise (NotSent if first.code in LATER else Refused)(_said(first.code, first.message)) from None
        except aiosmtplib.SMTPAuthenticationError as error:
            raise NotSent(f"the mail server does not let us in: {_said(error.code, error.message)}") from None
        except aiosmtplib.SMTPResponseException as error:
            # of this message alone, 5yz is for good; before it, for all
            kind = Refused if handed_over and error.code not in LATER else NotSent
            raise kind(_said(error.code, error.message)) from None
        except (aiosmtplib.SMTPException, OSError, TimeoutError) as error:
            text = str(error) or f"no answer within {WITHIN_S:.0f} s"
            if handed_over:
                raise Unsure(f"{text}; whether it arrived is not known") from None
            raise NotSent(f"the mail server {server.host}:{server.port}: {text}") from None
        finally:
            client.close()
        return answer[:200]


def _said(code: int, text: str) -> str:
    return f"{code} {' '.join(text.split())}"[:250]


def written(message: Message, sender: str, to: str, date: object) -> EmailMessage:
    """A message as a mail."""
    mail = EmailMessage()
    user, _, host = sender.rpartition("@")
    mail["From"] = Address(message.shop, user, host)
    to_user, _, to_host = to.rpartition("@")
    mail["To"] = Address("", to_user, to_host)
    mail["Subject"] = f"{message.subject}{' (perhaps repeated)' if message.repeated else ''}"
    mail["Date"] = format_datetime(date)  # type: ignore[arg-type]
    mail["Message-ID"] = f"<{message.id}@{host}>"
    mail["Auto-Submitted"] = "auto-generated"  # RFC 3834: nobody's absence note answers it
    if message.gravest in IMPORTANCE:
        mail["Importance"] = IMPORTANCE[message.gravest]
    pictures = {part.delivery: f"{part.delivery}.{message.id}@{host}" for part in message.parts if part.picture}
    values = {"message": message, "pictures": pictures}
    mail.set_content(_templates.get_template("mail.txt").render(values))
    mail.add_alternative(_templates.get_template("mail.html").render(values), subtype="html")
    html = mail.get_payload()[1]  # type: ignore[index]
    for part in message.parts:
        if part.picture:
            html.add_related(  # type: ignore[union-attr]
                part.picture, "image", "jpeg", cid=f"<{pictures[part.delivery]}>", disposition="inline",
                filename=f"notice-{part.notice.id}.jpg",
            )  # fmt: skip
    return mail
