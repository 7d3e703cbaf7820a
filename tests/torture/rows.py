"""What one kind of attack came to."""

import time
from dataclasses import dataclass, field


@dataclass
class Row:
    """``tried`` attacks of one kind, and a line for each that got through."""

    name: str
    tried: int = 0
    failures: list[str] = field(default_factory=list)
    remark: str = ""
    began: float = field(default_factory=time.monotonic)

    def fail(self, words: str) -> None:
        """Note an attack that got through."""
        self.failures.append(words)

    def line(self) -> str:
        """The row of the table."""
        took = time.monotonic() - self.began
        return (
            f"| {self.name} | {self.tried} | {len(self.failures)} | {self.remark} | {took:.0f} s |"
        )
