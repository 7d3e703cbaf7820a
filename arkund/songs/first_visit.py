"""The first visit: ten short steps through the stations of the demo song, each of which does one real thing.

A step that changes the song is done when a revision, a pass or a print says so, however it came about. What is
only heard is told by the page.
"""

from collections.abc import Callable
from dataclasses import dataclass
from urllib.parse import urlencode

from arkund.core.errors import ArkundError
from arkund.songs.demo import DEMO_SLUG
from arkund.songs.models import FirstVisit, Job, Song


@dataclass(frozen=True)
class Step:
    """A step: its ``title``, what to do in ``words``, the ``keys`` for it, the ``station`` where it is done with the
    ``query`` of its page, and how it ``is_done``. Without that, the page says when it was heard."""

    name: str
    title: str
    words: str
    keys: str
    station: str
    query: str = ""
    is_done: Callable[[Song], bool] | None = None


def _kept(station: str, *, by_hand: bool = False) -> Callable[[Song], bool]:
    """Whether a change was kept at a station; ``by_hand`` alone, or as a finding too."""

    def found(song: Song) -> bool:
        kept = song.revisions.filter(station=station)
        return (kept.filter(finding="") if by_hand else kept).exists()

    return found


def _differs(song: Song) -> bool:
    """Whether a value was set over some bars."""
    patches = song.revisions.exclude(patch={}).values_list("patch", flat=True)
    return any(path.startswith("over.") for patch in patches for path in patch)


def _at(mic: str, finding: str = "") -> str:
    return urlencode({"mic": mic} | ({"finding": finding} if finding else {}))


STEPS = (
    Step(
        "raw",
        "Hear the raw kit",
        "Bring your monitors up slowly. Press 1 for the recording as it came in, and Space to play it.",
        "1 Space",
        "edit",
        _at("snare_top"),
    ),
    Step(
        "findings",
        "See what was found",
        "The column on the right says what was measured and what would help. F goes to the next finding.",
        "F",
        "load-in",
        _at("kick_in"),
    ),
    Step(
        "polarity",
        "Flip the snare bottom",
        "The bottom mic cancels part of the top mic. H plays it flipped, 4 as it was; A keeps it flipped.",
        "H A",
        "align",
        _at("snare_bottom", "align.polarity:snare_bottom"),
        _kept("align"),
    ),
    Step(
        "timing",
        "Put the hits in time",
        "Some hits stray from the drummer's own place. H plays them moved, every mic together; A keeps that.",
        "H A",
        "edit",
        _at("snare_top", "timing.rule:song"),
        _kept("edit"),
    ),
    Step(
        "gate",
        "Gate a tom",
        "Between its hits the tom mic carries the rest of the kit. H plays it gated; A keeps the gate.",
        "H A",
        "clean",
        _at("tom_1", "clean.gate:tom_1"),
        _kept("clean"),
    ),
    Step(
        "pass",
        "Run the first pass",
        "One button sets the whole kit up, in a minute or two. Each of its changes has a reason and can be undone.",
        "",
        "first-pass",
        "",
        lambda song: song.jobs.filter(kind="first-pass", state=Job.State.DONE).exists(),
    ),
    Step(
        "compare",
        "Compare, equally loud",
        "Play, then switch: 1 is the recording, 2 is the mix now. Both are equally loud, so louder cannot win.",
        "Space 1 2",
        "edit",
        _at("snare_top"),
    ),
    Step(
        "blend",
        "Blend a bus in",
        "Drag the blend of a parallel bus while it plays, or focus it and use ← and →. Let go to keep it.",
        "← →",
        "bus",
        "",
        _kept("bus", by_hand=True),
    ),
    Step(
        "chorus",
        "Lift the chorus",
        "Under “Over some bars only”, keep bars 9-16, choose the blend, by, and type +2 dB. It differs there alone.",
        "",
        "bus",
        "bus=strike&bars=9-16",
        _differs,
    ),
    Step(
        "print",
        "Print",
        "Choose stems and mix, and print. The page checks before and after that they sum to the mix.",
        "",
        "print",
        "",
        lambda song: song.prints.exists(),
    ),
)
"""The way, in order."""

BY_NAME = {step.name: step for step in STEPS}
HEARD = tuple(step.name for step in STEPS if step.is_done is None)


@dataclass(frozen=True)
class Taken:
    """A step as it stands in a song: its number, and whether it is done, passed over, or the next."""

    number: int
    step: Step
    is_done: bool
    is_passed_over: bool = False
    is_next: bool = False


@dataclass(frozen=True)
class Way:
    """All steps of a song's first visit; ``next`` is None once none is left."""

    slug: str
    steps: tuple[Taken, ...]
    is_open: bool

    @property
    def next(self) -> Taken | None:
        """The first step that is neither done nor passed over."""
        return next((one for one in self.steps if one.is_next), None)

    @property
    def has_begun(self) -> bool:
        """Whether any step was taken."""
        return any(one.is_done or one.is_passed_over for one in self.steps)


def way_of(song: Song) -> Way | None:
    """The way through a song; None for any but the demo song."""
    if song.slug != DEMO_SLUG:
        return None
    visit = FirstVisit.objects.filter(song=song).first() or FirstVisit(song=song)
    done = [step.is_done(song) if step.is_done else step.name in visit.heard for step in STEPS]
    over = [
        step.name in visit.passed_over and not is_done
        for step, is_done in zip(STEPS, done, strict=True)
    ]
    left = [n for n in range(len(STEPS)) if not done[n] and not over[n]]
    taken = tuple(
        Taken(n + 1, step, done[n], over[n], bool(left) and n == left[0])
        for n, step in enumerate(STEPS)
    )
    return Way(song.slug, taken, visit.open)


def shown_on(song: Song) -> Way | None:
    """The way where it is open on the song's pages, else None."""
    is_open = song.slug == DEMO_SLUG and FirstVisit.objects.filter(song=song, open=True).exists()
    return way_of(song) if is_open else None


def open_way(song: Song, *, is_open: bool) -> None:
    """Show the steps on the song's pages, or leave them for now. Raises `ArkundError`."""
    _visit(song, open=is_open)


def heard(song: Song, name: str) -> None:
    """Note that a step was heard. Raises `ArkundError` for one that the song itself tells."""
    if name not in HEARD:
        raise ArkundError(f"Only these steps are heard: {', '.join(HEARD)}.")
    visit = _visit(song)
    _visit(song, heard=sorted({*visit.heard, name}))


def pass_over(song: Song, name: str) -> None:
    """Leave a step out. Raises `ArkundError` for one that there is not."""
    if name not in BY_NAME:
        raise ArkundError(f"There is no step “{name}”. There are: {', '.join(BY_NAME)}.")
    visit = _visit(song)
    _visit(song, passed_over=sorted({*visit.passed_over, name}))


def begin_again(song: Song) -> None:
    """Take all steps anew that were heard or passed over; what was done to the song stays done."""
    _visit(song, heard=[], passed_over=[], open=True)


def _visit(song: Song, **values: object) -> FirstVisit:
    if song.slug != DEMO_SLUG:
        raise ArkundError("The first visit is made on the demo song.")
    return FirstVisit.objects.update_or_create(song=song, defaults=values)[0]
