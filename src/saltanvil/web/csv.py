"""Tables as files."""

from fastapi.responses import PlainTextResponse


class CsvResponse(PlainTextResponse):
    media_type = "text/csv"
