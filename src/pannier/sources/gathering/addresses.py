"""Where hosts are: on the internet, or inside, where a stranger's redirect must not lead."""

from __future__ import annotations

import asyncio
import ipaddress
import socket
import urllib.request
from typing import Any
from urllib.parse import urlsplit

from pannier.sources.gathering.arriving import RefusedError


def is_inside(address: str) -> bool:
    """Whether an IP address is private, of this machine, or none of the internet's (IANA special-purpose registries)."""
    parsed = ipaddress.ip_address(address.partition("%")[0])
    mapped = getattr(parsed, "ipv4_mapped", None)
    return not (mapped or parsed).is_global or parsed.is_multicast


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
