"""What a station's changes cost, and which of them may go for it."""

import pytest

from arkund.core.advise.finding import Finding
from arkund.core.advise.looking_back import SURE_FLIP, _may_go
from arkund.core.advise.study import Study


@pytest.mark.parametrize(
    ("quantity", "confidence", "may_go"),
    [("polarity", 0.95, False), ("polarity", SURE_FLIP - 0.01, True), ("delay", 0.99, True)],
)
def test_a_flip_that_is_sure_is_never_given_up_for_a_figure(
    study: Study, quantity: str, confidence: float, may_go: bool
) -> None:
    proposal = {"mics.snare_bottom.polarity": -1}
    finding = Finding("align", quantity, "snare_bottom", "", {}, confidence, proposal)
    assert _may_go(finding, study) is may_go


def test_a_flip_of_all_mics_of_a_drum_is_as_good_as_what_comes_of_it(study: Study) -> None:
    proposal = {f"mics.{mic}.polarity": -1 for mic in study.close("snare")}
    assert len(proposal) > 1
    assert _may_go(Finding("align", "polarity", "snare_top", "", {}, 0.99, proposal), study)
