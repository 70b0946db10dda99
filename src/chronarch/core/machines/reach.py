"""Which numeric addresses belong to no device, whatever name leads there."""

from __future__ import annotations

import ipaddress

Ip = ipaddress.IPv4Address | ipaddress.IPv6Address
METADATA = frozenset(map(ipaddress.ip_address, ("100.100.100.200", "168.63.129.16", "192.0.0.192", "fd00:ec2::254")))
"""Where clouds tell their computers what is nobody else's business, beside the link-local 169.254.169.254."""


def plain(ip: Ip) -> Ip:
    """An IPv4 address that is written as IPv6 as what it is."""
    return (ip.ipv4_mapped or ip) if isinstance(ip, ipaddress.IPv6Address) else ip


def no_device(ip: Ip) -> str:
    """Why there can be no device at an address; empty when there can be one. Private addresses are allowed, because
    that is where machines are."""
    ip = plain(ip)
    if ip.is_link_local or ip.is_multicast:
        return "a link-local or group address"
    return "an address where clouds keep their metadata" if ip in METADATA else ""
