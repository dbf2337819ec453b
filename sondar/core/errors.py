"""The exception tree of the core. Every branch carries its facts as fields, not only in the text."""

from __future__ import annotations

from dataclasses import dataclass


class SondarError(Exception):
    """Base of everything the core raises on purpose."""


class QuantityError(SondarError):
    """Text that is not a value a technician could mean."""

    def __init__(self, text: str, expected: str) -> None:
        self.text = text
        self.expected = expected
        super().__init__(f"'{text}' is not a reading Sondar understands: expected {expected}")


@dataclass(frozen=True)
class Problem:
    """One thing wrong with a circuit document.

    Attributes:
        path: keys and list positions from the top of the document to the field.
        message: what was wanted, what was found and what to do.
    """

    path: tuple[str | int, ...]
    message: str


class CircuitDocumentError(SondarError):
    """A circuit document with one or more problems; ``problems`` lists all of them."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = problems
        first = problems[0]
        where = ".".join(str(step) for step in first.path) or "document"
        more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
        super().__init__(f"{where}: {first.message}{more}")


class UnknownReferenceError(SondarError):
    """A point, part, connector, control or fault that the circuit does not have."""

    def __init__(self, kind: str, name: str, known: list[str]) -> None:
        self.kind = kind
        self.name = name
        self.known = known
        listing = ", ".join(known[:12]) + (", …" if len(known) > 12 else "")
        super().__init__(f"no {kind} '{name}' in this circuit; it has: {listing}")


class UnsolvableNetworkError(SondarError):
    """The operating point could not be found (no convergence)."""

    def __init__(self, setup: str, detail: str) -> None:
        self.setup = setup
        super().__init__(f"no operating point for set-up '{setup}': {detail}")


class PlanTableError(SondarError):
    """A fault–test table with one or more problems: (place, what is wrong)."""

    def __init__(self, problems: list[tuple[str, str]]) -> None:
        self.problems = problems
        place, message = problems[0]
        more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
        super().__init__(f"{place or 'table'}: {message}{more}")
