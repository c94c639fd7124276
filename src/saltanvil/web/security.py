"""Who may talk to the server: Host and Origin checked, sizes bounded, a token when bound beyond loopback."""

import contextlib
import hmac
import ipaddress
import json
import re
import socket
from urllib.parse import parse_qs, urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
MAX_BODY_BYTES = 4 << 20
MAX_UPLOAD_BYTES = 16 << 30
#: Where the body is a file.
FILES = re.compile(r"/media$|/archives$|/imports/\d+/\d+$")
HOST = re.compile(r"(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9._-]+)(?::[0-9]{1,5})?")
COOKIE = "saltanvil_token"
HEADERS = [
    (
        b"content-security-policy",
        b"default-src 'self'; style-src 'self' 'unsafe-inline'; worker-src 'self' blob:; connect-src 'self' ws: wss:; "
        b"frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    ),
    (b"cross-origin-opener-policy", b"same-origin"),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-resource-policy", b"same-origin"),
]


def names_of_machine(host: str) -> set[str]:
    """What a server bound to a host may be asked by: the host itself, and, bound to all, every name and address there is."""
    names = {host}
    if host in ("0.0.0.0", "::", ""):
        names = {socket.gethostname(), socket.getfqdn(), *addresses()}
    return {url_form(name).lower() for name in names if name}


def addresses() -> list[str]:
    """The machine's addresses, the one that other machines reach it by first."""
    result: list[str] = []
    for family, other in ((socket.AF_INET, "192.0.2.1"), (socket.AF_INET6, "2001:db8::1")):  # nothing is sent there
        try:
            with socket.socket(family, socket.SOCK_DGRAM) as probe:
                probe.connect((other, 9))
                result.append(str(probe.getsockname()[0]))
        except OSError:
            continue
    with contextlib.suppress(OSError):
        result.extend(str(info[4][0]) for info in socket.getaddrinfo(socket.gethostname(), None))
    return list(dict.fromkeys(address.split("%")[0] for address in result))


def url_form(name: str) -> str:
    """A host as it stands in a URL: IPv6 addresses in brackets."""
    try:
        return f"[{name}]" if ipaddress.ip_address(name).version == 6 else name
    except ValueError:
        return name


def url_host(host: str) -> str:
    """A host that can be opened: for a server bound to all of them, the machine's address."""
    if host in ("0.0.0.0", "::", ""):
        usable = [name for name in addresses() if host == "::" or ":" not in name]
        host = next(iter(usable), socket.gethostname())
    return url_form(host)


class TooLarge(Exception):
    """A body beyond its bound."""


class Guard:
    """ASGI middleware. `hosts` are the host names (without port) that may be asked for; `token` is None on loopback."""

    def __init__(self, app: ASGIApp, hosts: set[str], token: str | None = None) -> None:
        self.app, self.hosts, self.token = app, hosts, token

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
        host = headers.get("host", "")
        if host_name(host).lower() not in self.hosts:
            await refuse(scope, send, 421, "this address is not served here; open the address that was printed at the start")
            return
        origin = headers.get("origin")
        if origin is not None and origin_host(origin) != host.lower():
            await refuse(scope, send, 403, "requests from other sites are refused")
            return
        if scope["type"] == "websocket" and origin is None and "sec-fetch-site" in headers:
            await refuse(scope, send, 403, "requests without an origin are refused")
            return
        cookie = None
        if self.token is not None:
            token = parse_qs(scope.get("query_string", b"").decode("latin-1")).get("token", [""])[0]
            # Cookies count for all ports of a machine: each server has a name of its own for it.
            name = f"{COOKIE}_{(scope.get('server') or ('', 0))[1]}"
            kept = cookie_value(headers.get("cookie", ""), name)
            if hmac.compare_digest(token.encode(), self.token.encode()):
                cookie = f"{name}={self.token}; HttpOnly; SameSite=Strict; Path=/"
            elif not hmac.compare_digest(kept.encode(), self.token.encode()):
                await refuse(scope, send, 401, "a token is needed; open the address with the token that was printed at the start")
                return
        limit = MAX_UPLOAD_BYTES if FILES.search(scope["path"]) else MAX_BODY_BYTES
        length = headers.get("content-length", "0")
        if not (length.isascii() and length.isdigit()) or int(length) > limit:
            await refuse(scope, send, 413, f"too large; at most {limit >> 20} MiB are taken here")
            return
        taken = 0

        async def bounded() -> Message:
            nonlocal taken
            message = await receive()
            taken += len(message.get("body", b"")) if message["type"] == "http.request" else 0
            if taken > limit:
                raise TooLarge
            return message

        async def marked(message: Message) -> None:
            if message["type"] == "http.response.start":
                extra = [*HEADERS, *([(b"set-cookie", cookie.encode())] if cookie else [])]
                message = {**message, "headers": [*message["headers"], *extra]}
            await send(message)

        try:
            await self.app(scope, bounded, marked)
        except TooLarge:
            await refuse(scope, send, 413, f"too large; at most {limit >> 20} MiB are taken here")


def host_name(host: str) -> str:
    """`127.0.0.1:8420` without its port; empty for what is no host (RFC 9110, 7.2: no user before an @)."""
    parts = HOST.fullmatch(host)
    return parts[1] if parts is not None else ""


def origin_host(origin: str) -> str | None:
    """Host and port of an origin; None for one that is none."""
    try:
        parts = urlsplit(origin)
    except ValueError:
        return None
    return parts.netloc.lower() if parts.scheme in ("http", "https") and parts.netloc else None


def cookie_value(header: str, name: str) -> str:
    """One cookie of a header; whatever others are there, and however they are written."""
    for part in header.split(";"):
        result, _, value = part.strip().partition("=")
        if result == name:
            return value
    return ""


async def refuse(scope: Scope, send: Send, status: int, why: str) -> None:
    if scope["type"] == "websocket":
        await send({"type": "websocket.close", "code": 4000 + status % 1000, "reason": why})
        return
    body = json.dumps({"detail": why}).encode()
    await send({"type": "http.response.start", "status": status, "headers": [(b"content-type", b"application/json"), *HEADERS]})
    await send({"type": "http.response.body", "body": body})
