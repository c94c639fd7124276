"""The audition socket: one player a tab; blocks as binary messages, everything else as JSON.

A block's message: header length (uint32, little endian), header (JSON, padded with spaces to 4 bytes), the left
channel, the right channel (float32, little endian).
"""

import asyncio
import json
import threading
import time
from concurrent.futures import Executor
from pathlib import Path
from typing import Any

from fastapi import APIRouter, WebSocket, WebSocketDisconnect
from pydantic import ValidationError

from saltanvil.engine.audition import Listening, Scope
from saltanvil.engine.wanted import Passage
from saltanvil.session.apply import apply
from saltanvil.session.document.base import NotFound
from saltanvil.session.document.session import Session
from saltanvil.session.edits.base import Edit, EditRefused
from saltanvil.session.edits.envelopes import by_hand
from saltanvil.session.format import Unreadable
from saltanvil.session.slots import owner_of, slots_of, strip_of
from saltanvil.sound.player import RemotePlayer
from saltanvil.store.database import MAX_NUMBER
from saltanvil.store.sessions import Version
from saltanvil.web.comparing import Replacement
from saltanvil.web.messages import (
    MESSAGE,
    Heard,
    Letter,
    Listen,
    Move,
    Play,
    SetMatched,
    SetMonitor,
    SetOrder,
    SetPassage,
    SetScope,
    SetSlots,
    Stop,
    Try,
)

router = APIRouter()
MAX_MESSAGE = 1 << 16
#: Messages other than blocks that may wait for a listener who does not read; more of them close the socket.
MAX_WAITING_MESSAGES = 1000
#: Messages a second that a listener may send for long, and how many at once. A page reports a hundred times a second.
MESSAGE_RATE, MESSAGE_BURST = 400.0, 2000.0


class Allowance:
    """How many messages a listener may still send: it fills with time, up to a burst."""

    def __init__(self, now: float) -> None:
        self._left, self._seen = MESSAGE_BURST, now

    def take(self, now: float) -> bool:
        self._left = min(self._left + (now - self._seen) * MESSAGE_RATE, MESSAGE_BURST)
        self._seen = now
        self._left -= 1.0
        return self._left >= 0.0


class TabAudition:
    """One tab's listening. Its outgoing queue is bounded: unheard blocks, and blocks that are not read, stop the player."""

    def __init__(
        self, tab: str, version: Version, database: Path, loop: asyncio.AbstractEventLoop, movers: Executor | None = None
    ) -> None:
        """database: where its media are."""
        self.tab, self.session_id = tab, version.id
        self._loop = loop
        self.outgoing: asyncio.Queue[bytes | str | None] = asyncio.Queue()
        self._matched_on = True
        self._scope = Scope()
        self._measured: dict[Scope, float] = {}
        self._order = ("", 0.0)
        self._slots: SetSlots | None = None
        #: Blocks that came from the player, and those that went on: each counted by one thread only.
        self._came = self._went = 0
        #: The document as it is stored, and the last move that is not.
        self._session = version.session
        self._moved: Move | None = None
        self._stored = -1
        #: An edit that sounds but is not made.
        self._tried: Edit | None = None
        #: What sounds instead of the document (a blind comparison, a delivery), and which of it.
        self._instead: Replacement | None = None
        self._letter = ""
        self._listening: Listening = "after"
        #: What sounds, and what it was made of.
        self._made_of: tuple[Session, Move | None, Edit | None] = (version.session, None, None)
        self._sounding = version.session
        self._moving = threading.Lock()
        self._waits, self._movers = False, movers
        self.player = RemotePlayer(
            database,
            version.session,
            deliver=self._send,
            ended=lambda epoch: self._send(json.dumps({"type": "ended", "epoch": epoch})),
            failed=lambda why: self._send(json.dumps({"type": "failed", "why": why})),
            lost=lambda: self._send(None),
        )

    def _send(self, message: bytes | str | None) -> None:
        if not self._loop.is_closed():
            if isinstance(message, bytes):
                self._came += 1
            self._loop.call_soon_threadsafe(self.outgoing.put_nowait, message)

    async def next(self) -> bytes | str | None:
        """The next message for the listener; None when the player is lost."""
        message = await self.outgoing.get()
        if isinstance(message, bytes):
            self._went += 1
            self.player.taken(self._came - self._went)
        return message

    @property
    def overrun(self) -> bool:
        """Whether more waits for the listener than its play can account for."""
        return self.outgoing.qsize() - (self._came - self._went) > MAX_WAITING_MESSAGES

    def tell_version(self, version: Version) -> None:
        self._send(json.dumps({"type": "version", "revision": version.revision}))

    def tell_measuring(self, step_ids: list[str]) -> None:
        self._send(json.dumps({"type": "measuring", "steps": step_ids}))

    def measured(self, scope: Scope, matched_db: float) -> None:
        self._measured[scope] = matched_db
        self._apply_matched()

    # ---- what sounds before it is stored ----------------------------------------------------------------------------

    def set_session(self, session: Session, gesture: str | None = None, number: int | None = None) -> None:
        """A stored document. gesture, number: of the edit that made it, if this tab did; newer moves of it go on sounding."""
        with self._moving:
            self._session = session
            if number is not None:
                self._stored = max(self._stored, number)
            if self._moved is not None and gesture is not None:
                newer = gesture == self._moved.gesture and self._moved.number > self._stored
                self._moved = self._moved if newer else None
            self._play()

    def sound_moves(self) -> None:
        """Let the last move sound. Off the event loop: applying it takes a while."""
        self._waits = False
        with self._moving:
            self._play()

    def replace_sound(self, instead: Replacement | None) -> None:
        """Hear the first of what sounds instead of the document; with None the document again."""
        with self._moving:
            if instead is None and self._instead is None:
                return
            self._instead, self._letter = instead, "" if instead is None else instead.names[0]
            self.player.cover(instead is not None and instead.hides, {} if instead is None else instead.recordings)
            self.player.want(listening="after" if instead is not None else self._listening)
            self._play()
            self._apply_matched()  # what was measured meanwhile

    def _play(self) -> None:
        if self._instead is not None:
            session, balance = self._instead.heard(self._letter, self._matched_on)
            self.player.want(session=session, balance=balance)
            return
        # A newer move may come at any moment; it has a turn of its own.
        made_of = session, moved, tried = self._session, self._moved, self._tried
        # Called again with nothing new, it is the same document again.
        if any(now is not was for now, was in zip(made_of, self._made_of, strict=True)):
            sounds = session
            if moved is not None:
                try:
                    sounds = apply(sounds, by_hand(sounds, moved.values, moved.strips))
                except EditRefused:
                    if self._moved is moved:
                        self._moved = None  # the edit that follows says why
            if tried is not None:
                try:
                    sounds = apply(sounds, tried)
                except EditRefused as error:
                    if tried is not self._made_of[2]:  # said once; later it may have been kept, and stand there already
                        self._send(json.dumps({"type": "refused", "why": str(error)}))
            self._made_of = made_of
            if sounds != self._sounding:  # what was moved and is stored now sounds already
                self._sounding = sounds
        self.player.want(session=self._sounding, balance=self._balance(self._sounding))

    def _balance(self, session: Session) -> tuple[str, float]:
        """The strip and the gain for listening, by which it is as loud as what it is compared with."""
        if not self._matched_on or self._slots is None or self._order[1] != 0.0:
            return (self._order[0], self._order[1] if self._matched_on else 0.0)
        try:
            slots = slots_of(owner_of(session, self._slots.of, self._slots.id))
            strip_id = strip_of(session, self._slots.of, self._slots.id)
        except NotFound:
            return ("", 0.0)
        on = None if slots is None else slots.on
        return (strip_id, self._slots.gains_db.get(on, 0.0) if on is not None else 0.0)

    def _apply_matched(self) -> None:
        if self._instead is not None:
            return
        matched_db = self._measured.get(self._scope, 0.0) if self._matched_on else 0.0
        self.player.want(matched_db=matched_db, balance=self._balance(self._sounding), plain=not self._matched_on)

    def _sound_soon(self) -> None:
        if not self._waits:  # otherwise the one that waits for its turn finds this newer one
            self._waits = True
            self._loop.run_in_executor(self._movers, self.sound_moves)

    def handle(self, message: Any) -> None:
        player = self.player
        match message:
            case Play():
                epoch = player.play(message.position_s)
                self.outgoing.put_nowait(json.dumps({"type": "playing", "epoch": epoch}))
            case Stop():
                epoch = player.stop()
                self.outgoing.put_nowait(json.dumps({"type": "stopped", "epoch": epoch}))
            case SetPassage():
                rate_hz = self._session.rate_hz
                player.want(passage=Passage.of_seconds(message.start_s, message.end_s, message.loop, rate_hz))
            case SetScope():
                self._scope = Scope(message.strip_id, message.step_id, message.lane_id)
                player.want(scope=self._scope)
                self._apply_matched()
            case Listen():
                self._listening = message.listening
                if self._instead is None:
                    player.want(listening=message.listening)
            case SetMatched():
                self._matched_on = message.on
                self._apply_matched()
                if self._instead is not None:
                    self._sound_soon()
            case SetOrder():
                self._order = (message.strip_id, message.gain_db)
                self._apply_matched()
            case SetSlots():
                self._slots = message
                self._apply_matched()
            case SetMonitor():
                player.want(monitor=message.monitor)
            case Move() if message.number > self._stored:  # or it has come after the edit that stores it
                self._moved = message
                self._sound_soon()
            case Try():
                self._tried = message.edit
                self._sound_soon()
            case Letter() if self._instead is not None and message.letter in self._instead.names:
                self._letter = message.letter
                self._sound_soon()
            case Heard():
                player.heard(message.epoch, message.frames, message.underruns, message.late)


@router.websocket("/api/sessions/{session_id}/audition")
async def audition(socket: WebSocket, session_id: int, tab: str) -> None:
    services = socket.app.state.services
    try:
        if not 0 <= session_id <= MAX_NUMBER:
            raise NotFound("there is no such session; choose one from the list")
        version = await asyncio.to_thread(services.sessions.version, session_id)
    except (NotFound, Unreadable) as error:
        await socket.close(4404, str(error)[:120])
        return
    if not 1 <= len(tab) <= 64:
        await socket.close(4400, "a tab names itself with 1 to 64 characters")
        return
    await socket.accept()
    loop = asyncio.get_running_loop()
    open_audition = await asyncio.to_thread(TabAudition, tab, version, services.database.path, loop, services.movers)
    services.join(open_audition)
    # From here on it is told of every change; what the page and the player know may be out of date by now.
    version = await asyncio.to_thread(services.sessions.version, session_id)
    await asyncio.to_thread(open_audition.set_session, version.session)
    open_audition.tell_version(version)
    open_audition.tell_measuring(services.matches.measuring(session_id))

    async def sending() -> None:
        while True:
            message = await open_audition.next()
            if message is None:
                await socket.close(1011, "the sound process ended")
            elif isinstance(message, bytes):
                await socket.send_bytes(message)
            else:
                await socket.send_text(message)

    sender = asyncio.create_task(sending())
    allowance = Allowance(time.monotonic())
    try:
        while True:
            text = await socket.receive_text()
            if not allowance.take(time.monotonic()) or open_audition.overrun:
                await socket.close(1008, "too many messages")
                break
            if len(text) > MAX_MESSAGE:
                await socket.close(1009)
                break
            try:
                message = MESSAGE.validate_json(text)
            except ValidationError as error:
                why = error.errors(include_url=False)[0]["msg"]
                open_audition.outgoing.put_nowait(json.dumps({"type": "failed", "why": f"not understood: {why}"}))
                continue
            open_audition.handle(message)
    except (WebSocketDisconnect, RuntimeError, KeyError):  # KeyError: a binary message
        pass
    finally:
        sender.cancel()
        services.leave(open_audition)
        await asyncio.to_thread(open_audition.player.close)
