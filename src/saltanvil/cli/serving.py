"""The server as a process: its port, its address, its end."""

import argparse
import contextlib
import gc
import os
import secrets
import socket
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

import uvicorn

from saltanvil.cli.errors import Refused
from saltanvil.engine.priority import realtime_priority
from saltanvil.store.database import Database
from saltanvil.store.folder import DataFolder
from saltanvil.store.media import MediaStore
from saltanvil.store.sessions import SessionStore
from saltanvil.web.app import create_app
from saltanvil.web.audition import MAX_MESSAGE
from saltanvil.web.security import LOOPBACK, names_of_machine, url_host
from saltanvil.web.services import Services

#: Objects made until the young ones are looked through: with Python's 700 that is some hundred times a second in a drag, and each
#: time the player waits.
GC_THRESHOLD = 20_000


def serve(request: argparse.Namespace) -> None:
    """Until it is told to stop."""
    if not 0 <= request.port <= 65535:
        raise Refused(f"--port {request.port}: a port is from 0 to 65535")
    loopback = request.host in ("127.0.0.1", "localhost", "::1")
    family = socket.AF_INET6 if ":" in request.host else socket.AF_INET
    listener = socket.socket(family, socket.SOCK_STREAM)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((request.host, request.port))
    except OSError as error:
        raise Refused(
            f"port {request.port} on {request.host} cannot be used ({error.strerror}); choose another with --port or --host"
        ) from error
    if not request.empty:
        ensure_demo(request.data)
    token = None if loopback else secrets.token_urlsafe(18)
    hosts = LOOPBACK if loopback else {*LOOPBACK, *names_of_machine(request.host)}
    services = Services(request.data, request.cache)
    app = create_app(services, hosts, token)
    config = uvicorn.Config(
        app, log_level="warning", ws_per_message_deflate=False, ws_max_size=MAX_MESSAGE, timeout_graceful_shutdown=2
    )
    server = uvicorn.Server(config)
    if request.until_stdin_closes:

        def wait() -> None:
            sys.stdin.buffer.read()
            server.should_exit = True

        threading.Thread(target=wait, daemon=True).start()
    threading.Thread(target=end_anyway, args=(lambda: server.should_exit,), daemon=True).start()
    listener.listen(128)  # from here on a browser that is quick waits instead of being refused
    port = listener.getsockname()[1]
    shown = url_host(request.host)
    gc.freeze()
    gc.set_threshold(GC_THRESHOLD)
    gc.enable()
    print(f"Salt Anvil is at http://{shown}:{port}/{f'?token={token}' if token else ''}", flush=True)
    realtime_priority()  # what is heard goes through this thread, and nothing else takes long in it
    with contextlib.suppress(KeyboardInterrupt):
        server.run(sockets=[listener])


#: How long the server may take to end; what a disk holds up then is left as it is.
END_S = 8.0


def end_anyway(ending: Callable[[], bool]) -> None:
    """End the process if it has not ended by itself some time after it began to: Python waits for every thread of a pool, also
    for one that waits for a disk."""
    while not ending():
        time.sleep(0.2)
    time.sleep(END_S)
    os._exit(0)


def ensure_demo(folder: Path) -> None:
    """Make the demo sessions if the store has no session at all."""
    with DataFolder(folder) as data, Database(data.database) as database:
        sessions = SessionStore(database)
        if sessions.listed():
            return
        from saltanvil.demo.make import make_demo

        def progress(fraction: float) -> None:
            print(f"\rMaking the demo sessions ... {fraction:4.0%}", end="" if fraction < 1 else "\n", flush=True)

        progress(0.0)
        media = MediaStore(database)
        media.clear_unfinished()
        make_demo(sessions, media, progress)
