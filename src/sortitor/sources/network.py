"""Where sources may be: addresses that users type lead to public networks, or to those that a
setting names; never to this machine or its neighbours unless somebody said so.
"""

from __future__ import annotations

import ipaddress
import socket
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import httpx

from sortitor.core.errors import SourceFault

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


@dataclass(frozen=True, slots=True)
class Networks:
    """The networks that sources may be in beside the public ones."""

    allowed: tuple[Network, ...] = ()

    def address_of(self, host: str, port: int) -> str:
        """The address that a host's name leads to; every address of it must be allowed, and this
        very one is used, so that another answer a moment later leads nowhere. Raises SourceFault.
        """
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise SourceFault(
                "no_such_host", f"Nobody knows the host {host}.", "Correct the address."
            ) from error
        addresses = list(dict.fromkeys(str(entry[4][0]) for entry in found))
        for address in addresses:
            if not self._may(ipaddress.ip_address(address.partition("%")[0])):
                raise SourceFault(
                    "address_not_allowed",
                    f"{host} is at {address}, which is no public address.",
                    "Whoever runs this service names its network in SORTITOR_SOURCE_NETWORKS.",
                )
        # Most servers that are known by both listen on the older kind at least.
        return min(addresses, key=lambda address: ":" in address)

    def _may(self, address: Any) -> bool:
        plain = getattr(address, "ipv4_mapped", None) or address
        if any(plain.version == net.version and plain in net for net in self.allowed):
            return True
        return bool(plain.is_global) and not plain.is_multicast


def networks_of(texts: Sequence[str]) -> Networks:
    """Networks as settings name them: `10.0.0.0/8`. Raises ValueError."""
    return Networks(tuple(ipaddress.ip_network(text.strip()) for text in texts if text.strip()))


class GuardedTransport(httpx.BaseTransport):
    """HTTP to allowed networks alone. The connection goes to the address that was checked; the
    certificate is held against the name.
    """

    def __init__(self, networks: Networks, verify: Any = True) -> None:
        self._networks = networks
        self._plain = httpx.HTTPTransport(verify=verify, retries=0, trust_env=False)

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        """Send a request to the checked address of its host."""
        url = request.url
        port = url.port or (443 if url.scheme == "https" else 80)
        address = self._networks.address_of(url.host, port)
        request.extensions = {**request.extensions, "sni_hostname": url.host}
        request.headers.setdefault("host", url.netloc.decode())
        request.url = url.copy_with(host=address)
        return self._plain.handle_request(request)

    def close(self) -> None:
        """Close its connections."""
        self._plain.close()
