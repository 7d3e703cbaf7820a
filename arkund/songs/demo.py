"""The demo song: simulated, written out as ordinary files, brought in by the users' own door."""

import tempfile
from pathlib import Path

from arkund.core.sheet.sheet import Section
from arkund.core.simulate.session import Progress, write_recording
from arkund.songs import desk, importing, incoming, locks
from arkund.songs.models import Song

DEMO_NAME = "Copper Weather"
DEMO_SLUG = "copper-weather"
DEMO_SEED = 1904


def make_demo(progress: Progress = lambda share, what: None) -> str:
    """Make “Copper Weather” by The Quarry Lamps unless it is there; returns its slug."""
    known = Song.objects.filter(slug=DEMO_SLUG).first()
    if known is not None:
        desk.bring_back(known)
        return DEMO_SLUG
    with locks.song_lock(DEMO_SLUG), tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        session = write_recording(
            "copper", DEMO_SEED, folder, progress=lambda s, w: progress(0.6 * s * 0.99, w)
        )
        sections = tuple(Section(**s) for s in session.truth["sections"])
        wishes = importing.Wishes(DEMO_NAME, session.truth["tempo_bpm"], sections=sections)
        files = incoming.guess_incoming(incoming.files_of(folder))
        song, _ = importing.import_song(
            files, wishes, progress=lambda s, w: progress(0.6 + 0.4 * s * 0.99, w)
        )
    progress(1.0, "the demo song is ready")
    return song.slug
