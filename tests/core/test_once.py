"""Values worked out once, by any number of threads."""

import threading

from arkund.core.once import once


class _Chain:
    """Asks a sum for its key while that may be asked for by another thread."""

    def __init__(self, meeting: threading.Barrier | None = None) -> None:
        self.meeting, self.hears, self.worked_out = meeting, None, 0

    @once
    def key(self) -> str:
        self.worked_out += 1
        if self.meeting:
            self.meeting.wait(10)
        return f"chain of {self.hears.key}" if self.hears else "chain"


class _Sum(_Chain):
    @once
    def key(self) -> str:
        if self.meeting:
            self.meeting.wait(10)
        return f"sum of {self.hears.key}" if self.hears else "sum"


def test_two_threads_that_need_each_other_s_kind_both_go_on() -> None:
    """One on its way from a chain to a sum, the other from a sum to a chain, at the same time."""
    meeting = threading.Barrier(2)
    chain, total = _Chain(meeting), _Sum(meeting)
    chain.hears, total.hears = _Sum(), _Chain()
    asking = [
        threading.Thread(target=lambda one=one: one.key, daemon=True) for one in (chain, total)
    ]
    for thread in asking:
        thread.start()
    for thread in asking:
        thread.join(5)
        assert not thread.is_alive(), "they wait for each other"
    assert (chain.key, total.key) == ("chain of sum", "sum of chain")


def test_a_value_is_worked_out_once_and_kept_by_its_object() -> None:
    one, other = _Chain(), _Chain()
    assert one.key == one.key == "chain"
    assert (one.worked_out, other.worked_out) == (1, 0)
    assert "key" in vars(one)
    assert _Chain.key.__doc__ is None
