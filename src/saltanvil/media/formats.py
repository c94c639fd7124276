"""The formats that sound is delivered in: what each is called, holds, and can take."""

from dataclasses import dataclass
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

Kind = Literal["wav", "bwf", "flac", "aiff", "mp3", "aac", "opus", "vorbis"]
#: What FLAC leaves of whole numbers, of dense music (common practice, no source).
FLAC_SHARE = 0.65
#: Of sessions, and of the formats that take these only.
RATES = (44100, 48000, 88200, 96000)


@dataclass(frozen=True)
class AudioFormat:
    """bits: of its whole numbers; 0 is 32-bit float, None what is lossy. bit_rate_kbps: of a lossy one. rates: those
    it can have; None is any."""

    name: str
    kind: Kind
    label: str
    suffix: str
    bits: int | None
    bit_rate_kbps: int | None = None
    rates: tuple[int, ...] | None = None

    @property
    def lossy(self) -> bool:
        return self.bits is None

    @property
    def dithered(self) -> bool:
        return bool(self.bits)

    def expected_bytes(self, rate: int, seconds: float, channels: int = 2) -> int:
        """About how large a file becomes. rate: of the session or the delivery. What FLAC saves depends on the sound."""
        if self.bit_rate_kbps is not None:
            return round(seconds * self.bit_rate_kbps * 125)
        share = FLAC_SHARE if self.kind == "flac" else 1.0
        return round(share * seconds * self.rate_for(rate) * channels * (self.bits or 32) / 8)

    def rate_for(self, rate: int) -> int:
        """The rate it is written at where another is wanted: the highest it has that divides it, or else 48 kHz."""
        if self.rates is None or rate in self.rates:
            return rate
        return next((own for own in sorted(self.rates, reverse=True) if rate % own == 0), 48000)


def whole(kind: Kind, label: str, suffix: str, *bits: int) -> list[AudioFormat]:
    return [
        AudioFormat(f"{kind}{depth or '32f'}", kind, f"{label} {f'{depth} bit' if depth else '32-bit float'}", suffix, depth)
        for depth in bits
    ]


def lossy(kind: Kind, label: str, suffix: str, rates: tuple[int, ...], *kbps: int) -> list[AudioFormat]:
    return [AudioFormat(f"{kind}-{rate}", kind, f"{label} {rate} kbit/s", suffix, None, rate, rates) for rate in kbps]


#: Nominal bit rates of Vorbis by its quality, from 0.1 on (Vorbis documentation, from memory).
VORBIS_QUALITY = {96: 0.2, 128: 0.4, 160: 0.5, 192: 0.6, 224: 0.7, 256: 0.8, 320: 0.9}

FORMATS: dict[str, AudioFormat] = {
    one.name: one
    for one in (
        *whole("wav", "WAV", ".wav", 16, 24, 0),
        *whole("bwf", "Broadcast WAV", ".wav", 16, 24, 0),
        *whole("flac", "FLAC", ".flac", 16, 24),
        *whole("aiff", "AIFF", ".aiff", 16, 24, 0),
        *lossy("mp3", "MP3", ".mp3", (44100, 48000), 96, 128, 160, 192, 256, 320),
        *lossy("aac", "AAC", ".m4a", RATES, 96, 128, 160, 192, 256, 320),
        *lossy("opus", "Opus", ".opus", (48000,), 64, 96, 128, 160, 192, 256, 320),
        *lossy("vorbis", "Ogg Vorbis, about", ".ogg", RATES, *VORBIS_QUALITY),
    )
}


def format_named(name: str) -> AudioFormat:
    """Raises ValueError with those there are."""
    if name not in FORMATS:
        raise ValueError(f"there is no format {name!r}; there are {', '.join(FORMATS)}")
    return FORMATS[name]


def known(name: str) -> str:
    return format_named(name).name


#: The name of a format.
FormatName = Annotated[str, Field(max_length=20), AfterValidator(known)]
Text = Annotated[str, Field(max_length=400)]


class Tags(BaseModel):
    """What a file says of itself, where its container has a place for it. free: any others, by name."""

    model_config = ConfigDict(extra="forbid")

    title: Text = ""
    artist: Text = ""
    date: Text = ""
    free: dict[Annotated[str, Field(min_length=1, max_length=60, pattern=r"^[A-Za-z][A-Za-z0-9 _-]*$")], Text] = Field(
        default_factory=dict, max_length=40
    )

    def as_dict(self) -> dict[str, str]:
        """Those that say something; names in small letters."""
        own = {"title": self.title, "artist": self.artist, "date": self.date}
        free = {name.lower().replace(" ", "_"): text for name, text in self.free.items()}
        return {name: text for name, text in {**free, **own}.items() if text}


class Origin(BaseModel):
    """What a Broadcast WAV file says of where it came from (EBU Tech 3285)."""

    model_config = ConfigDict(extra="forbid")

    originator: Annotated[str, Field(max_length=32)] = ""
    description: Annotated[str, Field(max_length=256)] = ""
