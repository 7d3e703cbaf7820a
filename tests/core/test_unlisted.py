"""What stands clear in a drum's mic opens its gate though the list of hits lacks it."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.advise.study import TakeFacts
from arkund.core.clean.gate import Timing, envelope, hit_openings
from arkund.core.clean.proposal import report_gate
from arkund.core.hits.detect import detect
from arkund.core.hits.hit import Hit
from arkund.core.hits.unlisted import unlisted_hits
from arkund.core.simulate.session import Session


@pytest.fixture(scope="module")
def hits(facts: TakeFacts) -> list[Hit]:
    return list(facts.hits)


def _loud(hits: list[Hit], piece: str) -> list[Hit]:
    return [h for h in hits if h.piece == piece and h.level_db > -6]


@pytest.mark.parametrize("piece", ["kick", "snare"])
def test_a_hit_taken_out_of_the_list_is_heard(
    session: Session, hits: list[Hit], piece: str
) -> None:
    gone = _loud(hits, piece)[1::4]
    kept = [h for h in hits if h not in gone]
    found = np.array(unlisted_hits(session.mics, session.rate, kept)[piece])
    heard = [h for h in gone if np.abs(found - h.time_s).min() < 0.008]
    assert len(gone) >= 3
    assert len(heard) >= 0.6 * len(gone)
    near = [t for t in found if min(abs(t - h.time_s) for h in gone) < 0.012]
    assert len(near) == len(found)


def test_bleed_and_ring_of_a_whole_list_are_no_hits(session: Session, hits: list[Hit]) -> None:
    assert sum(map(len, unlisted_hits(session.mics, session.rate, hits).values())) <= 1
    few = [h for h in hits if h.piece != "snare"] + _loud(hits, "snare")[:3]
    assert "snare" not in unlisted_hits(session.mics, session.rate, few)


def test_what_detection_was_not_sure_of_is_beside_the_list(
    session: Session, hits: list[Hit]
) -> None:
    """Soft hits of the snare that may be: none is a hit of the list, none stands twice."""
    found = detect(session.mics, session.rate)
    assert found.hits == hits
    assert set(found.maybes) <= {"snare"}
    snares = np.array([h.time_s for h in hits if h.piece == "snare"])
    maybes = {"snare": [float(snares[3]) + 0.2, float(snares[5]) + 0.21]}
    listed = unlisted_hits(session.mics, session.rate, hits)
    both = unlisted_hits(session.mics, session.rate, hits, maybes)
    assert set(both["snare"]) >= {round(t, 6) for t in maybes["snare"]}
    again = unlisted_hits(session.mics, session.rate, hits, both)
    assert again == both
    assert {p: t for p, t in both.items() if p != "snare"} == {
        p: t for p, t in listed.items() if p != "snare"
    }


def test_the_report_counts_them_apart_from_false_openings() -> None:
    sound = np.random.default_rng(1).standard_normal(48000).astype(np.float32) * 0.01
    hit = Hit("a", "kick", 0.2, 100, "accent", 1.0, 0.0)
    timing = Timing(24, 2400, 4800, 48)
    opens = np.array([0.2, 0.5, 0.8]) * 48000
    openings = hit_openings(opens.astype(np.int64), 0, 1, 48000)
    other = replace(hit, id="b", piece="hat", time_s=0.8)
    shape = envelope(openings.tolist(), -40, timing)
    report = report_gate(sound, 48000, "kick", [hit, other], openings, shape, unlisted=[0.5])
    assert (report.unlisted, report.false_open, report.false_pieces) == (1, 1, {"hat": 1})
