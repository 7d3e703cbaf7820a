"""Counting findings, and measuring what a hand did, in the background of the web process: no page waits for it."""

import logging
import threading
import time

from django.db import close_old_connections

from arkund.core.errors import ArkundError
from arkund.songs import findings, own_figures, storage
from arkund.songs.models import Song
from arkund.songs.rendering import PatientEngine
from arkund.songs.scheduling import SCHEDULE
from arkund.songs.timing import sheet_of

logger = logging.getLogger("arkund.counting")
MEASURED_AT_ONCE = 3
PAUSE_S = 0.02
"""Between two questions, so that pages get their turn."""

_lock = threading.Lock()
_wanted: list[int] = []
_running = False


def want(song_id: int) -> None:
    """Count what is not known yet of a song's present state; returns at once."""
    global _running
    with _lock:
        if song_id in _wanted:
            _wanted.remove(song_id)
        _wanted.append(song_id)
        if _running:
            return
        _running = True
    threading.Thread(target=_count_on, name="counting", daemon=True).start()


def _count_on() -> None:
    global _running
    try:
        while True:
            with _lock:
                if not _wanted:
                    _running = False
                    return
                song_id = _wanted.pop()  # the one asked for last
            _count(song_id)
    except Exception:
        logger.exception("counting findings failed")
        with _lock:
            _running = False
    finally:
        close_old_connections()


def _measure_own(song: Song, engine: PatientEngine) -> None:
    """Figures for the latest changes of a hand; older ones wait until `arkund log --measure` asks for them."""
    for revision in own_figures.unmeasured(song, MEASURED_AT_ONCE):
        SCHEDULE.stand_back()
        try:
            own_figures.measure(revision, engine)
        except ArkundError:
            logger.exception("revision %d could not be measured", revision.number)
            return


def _count(song_id: int) -> None:
    SCHEDULE.stand_back()
    song = Song.objects.select_related("current").filter(pk=song_id).first()
    if song is None or song.current is None:
        return
    sheet, school = sheet_of(song), findings.school_of_song(song)
    engine = PatientEngine(sheet.rate, sheet.frames, storage.tile_cache(), SCHEDULE.stand_back)
    _measure_own(song, engine)
    study = findings.study_of_song(song, sheet, engine)
    number = song.current.number
    for module, subject, key in findings.asked(sheet, school):
        if findings.known(key) is not None:
            continue
        SCHEDULE.stand_back()
        findings.count(module, subject, study, school, key)
        time.sleep(PAUSE_S)
        now = Song.objects.filter(pk=song_id).values_list("current__number", "school").first()
        if now != (number, song.school):
            want(song_id)  # the song has moved on: begin again with what it is now
            return
