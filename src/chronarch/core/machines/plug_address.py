"""Where a plug is: http://HOST[:PORT]/DEVICE, https://…, mqtt://BROKER[:PORT]/DEVICE or mqtts://…"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import unquote, urlsplit

from chronarch.core.errors import CoreError
from chronarch.core.machines.address import without_secrets

USUAL_PORT = {"http": 80, "https": 443, "mqtt": 1883, "mqtts": 8883}
LOOKS = "http://HOST/DEVICE or mqtt://BROKER/DEVICE"


class NotAPlugAddress(CoreError, ValueError):
    """The text is no address of a plug; the message says what one looks like and holds no password."""


@dataclass(frozen=True)
class PlugAddress:
    """An address, taken apart. `url` has neither login nor password; `device` is what it has after the host."""

    scheme: str
    url: str
    host: str
    port: int
    device: str
    login: str = ""
    password: str = ""

    @property
    def kind(self) -> str:
        """Of the profile that can describe it: http or mqtt."""
        return self.scheme.rstrip("s")


def parse_plug_address(text: str) -> PlugAddress:
    """Take an address apart. Raises NotAPlugAddress."""
    text = text.strip()
    shown = without_secrets(text)
    try:
        url = urlsplit(text)
        port = url.port
    except ValueError:
        raise NotAPlugAddress(f"The port of this address is no number; write {LOOKS}.") from None
    if url.scheme not in USUAL_PORT or not url.hostname:
        raise NotAPlugAddress(f"{shown!r} is no plug's address; write {LOOKS}.")
    if url.query or url.fragment:
        raise NotAPlugAddress(f"{shown!r} has more than a path after its host; put that into the profile.")
    device = unquote(url.path.strip("/"))
    if url.scheme.startswith("mqtt") and (not device or any(c in device for c in "+#")):
        raise NotAPlugAddress(f"{shown!r} names no device at its broker; write {url.scheme}://BROKER/DEVICE.")
    host = f"[{url.hostname}]" if ":" in url.hostname else url.hostname
    bare = f"{url.scheme}://{host}{f':{port}' if port else ''}/{device}"
    return PlugAddress(
        url.scheme, bare, url.hostname, port or USUAL_PORT[url.scheme], device,
        unquote(url.username or ""), unquote(url.password or ""),
    )  # fmt: skip
