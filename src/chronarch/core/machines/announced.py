"""How a machine announces itself on the network (DNS-SD, RFC 6763): the type of its service, and its TXT record.

The type is our own, `_chronarch-link._tcp`: a host and port at which a machine is fed. `link` is the kind of address,
tcp without it; `model`, `maker` and `serial` are what the machine says of itself. The instance's name is the machine's
own. docs/protocols/line-link.md has it in words.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

SERVICE_TYPE = "_chronarch-link._tcp.local."
LONGEST = 60
"""Characters of a name or of what a machine says of itself that are kept."""
KINDS = ("tcp", "rfc2217")
"""Kinds of address that can be announced."""


def announced_link(host: str, port: int, says: Mapping[str, str]) -> str | None:
    """The address that an announcement means; None for one that means none of ours."""
    kind = says.get("link", "tcp")
    if kind not in KINDS or not 0 < port < 65536 or not host:
        return None
    return f"{kind}://{f'[{host}]' if ':' in host else host}:{port}"


def proposed_name(own: str, model: str, taken: Iterable[str]) -> str:
    """A name for a machine that has none here yet: its own, or its model's, with a number where that is taken."""
    known = {name.casefold() for name in taken}
    base = "".join(c for c in (own or model or "machine") if c.isprintable() and c not in "/\\")[:LONGEST].strip(". ")
    base = base or "machine"
    if base.casefold() not in known:
        return base
    number = 2
    while f"{base} {number}".casefold() in known:
        number += 1
    return f"{base[: LONGEST - 4]} {number}"
