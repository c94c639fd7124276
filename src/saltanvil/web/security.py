"""Who may talk to the server: Host and Origin checked, sizes bounded, a token when bound beyond loopback."""

import hmac
import json
from http.cookies import SimpleCookie
from urllib.parse import parse_qs, urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

LOOPBACK = {"127.0.0.1", "localhost", "[::1]"}
MAX_BODY_BYTES = 4 << 20
MAX_UPLOAD_BYTES = 8 << 30
COOKIE = "saltanvil_token"
HEADERS = [
    (
        b"content-security-policy",
        b"default-src 'self'; style-src 'self' 'unsafe-inline'; worker-src 'self' blob:; connect-src 'self' ws: wss:",
    ),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"no-referrer"),
    (b"cross-origin-resource-policy", b"same-origin"),
]


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
        if host_name(host) not in self.hosts:
            await refuse(scope, send, 421, "this address is not served here; open the address that was printed at the start")
            return
        origin = headers.get("origin")
        if origin is not None and urlsplit(origin).netloc != host:
            await refuse(scope, send, 403, "requests from other sites are refused")
            return
        if scope["type"] == "websocket" and origin is None and "sec-fetch-site" in headers:
            await refuse(scope, send, 403, "requests without an origin are refused")
            return
        cookie = None
        if self.token is not None:
            given = parse_qs(scope.get("query_string", b"").decode("latin-1")).get("token", [""])[0]
            kept = SimpleCookie(headers.get("cookie", "")).get(COOKIE)
            if hmac.compare_digest(given.encode(), self.token.encode()):
                cookie = f"{COOKIE}={self.token}; HttpOnly; SameSite=Strict; Path=/"
            elif kept is None or not hmac.compare_digest(kept.value.encode(), self.token.encode()):
                await refuse(scope, send, 401, "a token is needed; open the address with the token that was printed at the start")
                return
        limit = MAX_UPLOAD_BYTES if scope["path"].endswith("/media") else MAX_BODY_BYTES
        if int(headers.get("content-length") or 0) > limit:
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
    """`127.0.0.1:8420` without its port."""
    return host if host.endswith("]") else host.rsplit(":", 1)[0]


async def refuse(scope: Scope, send: Send, status: int, why: str) -> None:
    if scope["type"] == "websocket":
        await send({"type": "websocket.close", "code": 4000 + status % 1000, "reason": why})
        return
    body = json.dumps({"detail": why}).encode()
    await send({"type": "http.response.start", "status": status, "headers": [(b"content-type", b"application/json"), *HEADERS]})
    await send({"type": "http.response.body", "body": body})
