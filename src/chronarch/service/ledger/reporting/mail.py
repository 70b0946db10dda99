"""A report as a mail: the page, the same in words, the PDF and the table attached."""

from __future__ import annotations

from datetime import datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.utils import format_datetime
from hashlib import sha256

from chronarch.records import tables as t


def report_mail(
    report: t.KeptReport, shop: str, sender: str, to: str, now: datetime, pdf: bytes | None
) -> EmailMessage:
    """`now` is real time. Without a PDF where that could not be made."""
    mail = EmailMessage()
    user, _, host = sender.rpartition("@")
    to_user, _, to_host = to.rpartition("@")
    mail["From"], mail["To"] = Address(shop, user, host), Address("", to_user, to_host)
    mail["Subject"] = f"{shop}: {report.name}"
    mail["Date"] = format_datetime(now)
    mail["Message-ID"] = f"<report-{report.id}-{sha256(to.encode()).hexdigest()[:12]}@{host}>"
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(report.words)
    mail.add_alternative(report.page, subtype="html")
    name = f"report-{report.id}"
    if pdf is not None:
        mail.add_attachment(pdf, maintype="application", subtype="pdf", filename=f"{name}.pdf")
    mail.add_attachment(report.rows.encode(), maintype="text", subtype="csv", filename=f"{name}.csv")
    return mail
