"""Where a module is reached: its logical address for DoIP (ISO 13400-2), and the two identifiers of its frames on CAN (ISO 15765-2)."""

from __future__ import annotations

from dataclasses import dataclass

TESTER = 0xF1
"""Address of a tester with normal fixed addressing (ISO 15765-4)."""
HIGHEST_11_BIT, HIGHEST_29_BIT = 0x7FF, 0x1FFF_FFFF


@dataclass(frozen=True)
class ModuleAddress:
    """One module.

    Attributes:
        logical: two bytes, for DoIP.
        request, answer: CAN identifiers; None for normal fixed addressing by the low byte of the logical address.
    """

    logical: int
    request: int | None = None
    answer: int | None = None

    @property
    def can_ids(self) -> tuple[int, int]:
        """Identifiers of a request and of its answer (ISO 15765-2, normal and normal fixed addressing)."""
        if self.request is not None and self.answer is not None:
            return self.request, self.answer
        low = self.logical & 0xFF
        return 0x18DA0000 | low << 8 | TESTER, 0x18DA0000 | TESTER << 8 | low


EMISSIONS = ModuleAddress(0xE000, 0x7E0, 0x7E8)
"""Where the emission-related module is asked if nobody has said which it is: all together with DoIP (ISO 13400-2), the first
with 11-bit identifiers on CAN (ISO 15765-4)."""
