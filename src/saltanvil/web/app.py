"""The application: routes, errors in words, the page."""

import asyncio
import sqlite3
import sys
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any, Literal

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, PlainTextResponse
from fastapi.staticfiles import StaticFiles
from starlette.middleware import Middleware

from saltanvil.measure.figures import FIGURES, Figure
from saltanvil.processors import REGISTRY
from saltanvil.processors.aims import LANE_AIMS, STRIP_AIMS
from saltanvil.processors.descriptor import Descriptor
from saltanvil.processors.reference import AimReference, ProcessorReference, aim_reference, reference_of
from saltanvil.session.address import PART_DESCRIPTORS
from saltanvil.session.document.automation import Owner
from saltanvil.session.document.base import NotFound
from saltanvil.session.edits.base import EditRefused
from saltanvil.session.format import Unreadable
from saltanvil.store.database import StoreError, refusal
from saltanvil.store.presets import PresetRefused
from saltanvil.studies.delivery.master import DeliveryRefused
from saltanvil.studies.scope.study import PassageRefused
from saltanvil.web import (
    aims,
    archives,
    audition,
    bench,
    blind,
    contrast,
    delivered_files,
    delivery,
    imports,
    media,
    presets,
    prints,
    resonances,
    scope,
    sessions,
    timeline,
    track_split,
)
from saltanvil.web.security import LOOPBACK, Guard
from saltanvil.web.services import Services

#: What is wrong, and what to do about it.
PROBLEM = {"type": "object", "properties": {"detail": {"type": "string"}}, "required": ["detail"]}
#: The answers that any route may give besides its own.
PROBLEMS: dict[int | str, dict[str, Any]] = {
    status: {"description": why, "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Problem"}}}}
    for status, why in (
        (400, "The body cannot be read"),
        (404, "What is asked for is not there"),
        (409, "It cannot be done, and nothing was changed"),
        (413, "It is too large"),
        (422, "The question is not valid"),
        (507, "It could not be stored, and nothing was changed"),
    )
}

#: The built page, a part of the package.
PAGE = Path(__file__).parent.parent / "page"
UNBUILT = (
    "The page of Salt Anvil is not built here: run ./start in the project's folder, which builds it, or install a wheel that "
    "has it. The API is served under /api.\n"
)
#: Answers and blocks on their way to the listener wait at most this long to get the interpreter back from a thread that computes.
SWITCH_INTERVAL_S = 0.00005


def create_app(data: Path | Services, hosts: set[str] | None = None, token: str | None = None) -> FastAPI:
    """data: the services, or the folder where the data is; hosts: names it may be asked by."""

    @asynccontextmanager
    async def life(app: FastAPI) -> AsyncIterator[None]:
        sys.setswitchinterval(SWITCH_INTERVAL_S)
        app.state.services = data if isinstance(data, Services) else Services(data)
        yield
        await asyncio.to_thread(app.state.services.close)

    guard = Middleware(Guard, hosts=hosts or LOOPBACK, token=token)
    app = FastAPI(title="Salt Anvil", version="1", lifespan=life, middleware=[guard], docs_url=None, redoc_url=None)
    for part in (
        sessions,
        media,
        imports,
        timeline,
        track_split,
        scope,
        aims,
        resonances,
        contrast,
        bench,
        blind,
        delivered_files,
        delivery,
        archives,
        presets,
        prints,
        audition,
    ):
        app.include_router(part.router, responses=PROBLEMS)

    @app.get("/api/processors", tags=["processors"])
    def list_processors() -> list[ProcessorReference]:
        """Every processor with its settings: label, unit, range, scale, default and help."""
        return [reference_of(processor) for processor in REGISTRY.values()]

    @app.get("/api/settings", tags=["processors"])
    def list_settings() -> dict[Owner, list[Descriptor]]:
        """The settings of what is no processor: strips, lanes, sends, keys, steps and the session itself."""
        return {owner: list(described.values()) for owner, described in PART_DESCRIPTORS.items()}

    @app.get("/api/figures", tags=["processors"])
    def list_figures() -> list[Figure]:
        """Every figure of a sound, in the order they are shown in."""
        return list(FIGURES.values())

    @app.get("/api/aims", tags=["processors"])
    def list_aims() -> dict[Literal["strip", "lane"], list[AimReference]]:
        """What can be asked of what is no processor: the levels at which strips and lanes leave."""
        return {"strip": [aim_reference(aim) for aim in STRIP_AIMS], "lane": [aim_reference(aim) for aim in LANE_AIMS]}

    @app.exception_handler(NotFound)
    async def missing(request: Request, error: NotFound) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 404)

    @app.exception_handler(Exception)
    async def fault(request: Request, error: Exception) -> JSONResponse:
        detail = f"a fault of the program ({type(error).__name__}); nothing was changed, and the server's log says where"
        return JSONResponse({"detail": detail}, 500)

    @app.exception_handler(DeliveryRefused)
    @app.exception_handler(PassageRefused)
    async def unmeasured(request: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 422)

    @app.exception_handler(Unreadable)
    @app.exception_handler(PresetRefused)
    @app.exception_handler(EditRefused)
    async def refused(request: Request, error: Exception) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 409)

    @app.exception_handler(StoreError)
    async def unstored(request: Request, error: StoreError) -> JSONResponse:
        return JSONResponse({"detail": str(error)}, 507)

    @app.exception_handler(sqlite3.DatabaseError)
    async def unread(request: Request, error: sqlite3.DatabaseError) -> JSONResponse:
        services: Services = request.app.state.services
        return JSONResponse({"detail": str(refusal(services.database.path, error))}, 507)

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        return JSONResponse({"detail": in_words(error.errors()[0])}, 422)

    generated = app.openapi

    def openapi() -> dict[str, Any]:
        schema = generated()
        schema["components"]["schemas"]["Problem"] = PROBLEM
        return schema

    app.openapi = openapi  # type: ignore[method-assign]
    if (PAGE / "index.html").is_file():
        app.mount("/", StaticFiles(directory=PAGE, html=True), name="page")
    else:

        @app.get("/", include_in_schema=False)
        def unbuilt() -> PlainTextResponse:
            return PlainTextResponse(UNBUILT, 503)

    return app


def in_words(error: dict[str, Any]) -> str:
    """A refusal of the request's model: where, and what is wrong."""
    where = ".".join(str(part) for part in error["loc"][1:]) or "the body"
    text = str(error["msg"]).removeprefix("Value error, ")
    limits = error.get("ctx", {})
    if error["type"] == "too_long":
        text = f"there may be at most {limits['max_length']} of these; send fewer"
    elif error["type"] == "too_short":
        text = f"there must be at least {limits['min_length']} of these"
    return f"{where}: {text}"
