"""The application: routes, errors in words, the page."""

import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from fastapi.staticfiles import StaticFiles
from starlette.middleware import Middleware

from saltanvil.processors import REGISTRY
from saltanvil.processors.base import describe
from saltanvil.session.edits import EditRefused
from saltanvil.store.database import StoreError
from saltanvil.store.presets import PresetRefused
from saltanvil.web import audition, bench, exports, media, presets, sessions, studies
from saltanvil.web.security import LOOPBACK, Guard
from saltanvil.web.services import Services

#: Other Python threads give way to the player's sooner than by default.
SWITCH_INTERVAL_S = 0.0005


def create_app(folder: Path, page: Path | None = None, hosts: set[str] | None = None, token: str | None = None) -> FastAPI:
    """folder: where the data is; page: the built page, if it is to be served; hosts: names it may be asked by."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        sys.setswitchinterval(SWITCH_INTERVAL_S)
        app.state.services = Services(folder)
        yield
        app.state.services.close()

    guard = Middleware(Guard, hosts=hosts or LOOPBACK, token=token)
    app = FastAPI(title="Salt Anvil", version="1", lifespan=life, middleware=[guard], docs_url=None, redoc_url=None)
    for part in (sessions, media, studies, bench, exports, presets, audition):
        app.include_router(part.router)

    @app.get("/api/processors", tags=["processors"])
    def list_processors() -> list[dict[str, Any]]:
        """Every processor with its settings: label, unit, range, scale, default and help."""
        return [describe(processor) for processor in REGISTRY.values()]

    @app.exception_handler(LookupError)
    async def missing(request: Request, error: LookupError) -> JSONResponse:
        return JSONResponse({"detail": str(error.args[0]) if error.args else "not found"}, 404)

    @app.exception_handler(PresetRefused)
    @app.exception_handler(EditRefused)
    async def refused(request: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 409)

    @app.exception_handler(StoreError)
    async def unstored(request: Request, error: StoreError) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 507)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"][1:])
        return JSONResponse({"detail": f"{where}: {first['msg'].removeprefix('Value error, ')}"}, 422)

    if page is not None:
        app.mount("/", StaticFiles(directory=page, html=True), name="page")
    return app
