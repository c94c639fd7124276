"""A table as an answer."""

from fastapi.responses import PlainTextResponse


class CsvResponse(PlainTextResponse):
    """A table as a file."""

    media_type = "text/csv"
