"""What a station's changes cost, and which of them may go for it."""

from dataclasses import replace

import pytest

from arkund.core.advise.finding import Finding
from arkund.core.advise.looking_back import SURE_FLIP, _may_go


@pytest.mark.parametrize(
    ("quantity", "confidence", "may_go"),
    [("polarity", 0.95, False), ("polarity", SURE_FLIP - 0.01, True), ("delay", 0.99, True)],
)
def test_a_flip_that_is_sure_is_never_given_up_for_a_figure(
    quantity: str, confidence: float, may_go: bool
) -> None:
    finding = Finding("align", quantity, "snare_bottom", "", {}, confidence)
    assert _may_go(finding) is may_go
    assert _may_go(replace(finding, module="other")) is may_go
