"""Where hosts are: on the internet, or inside, where a stranger's redirect must not lead."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
import urllib.request
from typing import Any
from urllib.parse import urlsplit

from pannier.sources.gathering.arriving import RefusedError

# networks whose addresses end in one of IPv4: NAT64 (RFC 6052, RFC 8215), IPv4-compatible and -translated ones
_WITH_IPV4 = [ipaddress.IPv6Network(each) for each in ("64:ff9b::/96", "64:ff9b:1::/48", "::/96", "::ffff:0:0:0/96")]


def is_inside(address: str) -> bool:
    """Whether an IP address is private, of this machine, or none of the internet's (IANA special-purpose registries)."""
    parsed = ipaddress.ip_address(address.partition("%")[0])
    embedded = _embedded(parsed) if isinstance(parsed, ipaddress.IPv6Address) else []
    is_mapped = getattr(parsed, "ipv4_mapped", None) is not None
    return parsed.is_multicast or not all(each.is_global for each in (*embedded, *([] if is_mapped else [parsed])))


def _embedded(address: ipaddress.IPv6Address) -> list[ipaddress.IPv4Address]:
    """The IPv4 addresses that a gateway may read in one: of 6to4, Teredo, NAT64 by its own prefixes, IPv4-compatible."""
    found = [address.ipv4_mapped, address.sixtofour, *(address.teredo or ())]
    if any(address in network for network in _WITH_IPV4):
        found.append(ipaddress.IPv4Address(int(address) & 0xFFFFFFFF))
    return [each for each in found if each is not None]


def is_this_machine(link: str) -> bool:
    """Whether a link's host is this machine, or answers on the local link alone, as a cloud's metadata do."""
    try:
        found = socket.getaddrinfo(urlsplit(link).hostname or "", None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return False
    addresses = [ipaddress.ip_address(str(where[0]).partition("%")[0]) for *_, where in found]
    every = [
        *addresses,
        *(inner for each in addresses if isinstance(each, ipaddress.IPv6Address) for inner in _embedded(each)),
    ]
    return any(each.is_loopback or each.is_link_local or each.is_unspecified for each in every)


async def leads_inside(link: str) -> bool:
    """Whether a link's host has an address that is inside; one that nobody knows has none."""
    host = urlsplit(link).hostname or ""
    try:
        found = await asyncio.get_running_loop().getaddrinfo(host, None, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        return False
    return any(is_inside(str(where[0])) for *_, where in found)


async def refuse_inside(first: str, link: str) -> None:
    """Raises RefusedError where a link leads inside and the one that led to it does not."""
    if await leads_inside(link) and not await leads_inside(first):
        raise RefusedError("it leads to an address that is private or of this machine, which a link from outside must not")


async def refuse_answer_from_inside(first: str, answer: Any) -> None:
    """The same by the address that has answered: names may mean another by then. Behind a proxy it says nothing."""
    stream = answer.extensions.get("network_stream")
    where = stream.get_extra_info("server_addr") if stream is not None else None
    if where and not urllib.request.getproxies() and is_inside(str(where[0])) and not await leads_inside(first):
        raise RefusedError("it is answered from an address that is private or of this machine")
