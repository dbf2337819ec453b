"""The exception tree. Every branch carries its facts as fields, not only in the text; whoever talks to people turns branches into answers.

SondarError
  RefusedError              something was asked that cannot be met: title, detail, the fields at fault
    InvalidError            what was given is not right
      QuantityError         a reading nobody could mean
      UnknownReferenceError a point, part, connector, control, fault or instrument that is not there
      CircuitDocumentError  a circuit, vehicle or procedure file; PlanTableError a fault–test table
    NotFoundError           no such job, diagnosis, reading …
    ConflictError           someone else was first, or the order of steps is wrong
    TooLargeError           more than is taken
    UnavailableError        a meter, a vehicle or a vehicle interface does not do its part
    BusyError               more is asked for than can be worked on; the same again in a moment
  UnsolvableNetworkError    no operating point
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class FieldProblem:
    """One thing wrong with one field.

    Attributes:
        path: keys and list positions from the top of what was given to the field.
        message: what was wanted, what was found and what to do.
        line: line of the text it was given in, from 1; None if there is none.
    """

    path: tuple[str | int, ...]
    message: str
    line: int | None = None

    @property
    def field(self) -> str:
        """Dotted path to the field."""
        return ".".join(str(step) for step in self.path)

    def as_dict(self) -> dict[str, Any]:
        """Plain fields, for JSON."""
        return {"line": self.line, "field": self.field or "file", "message": self.message}


class SondarError(Exception):
    """Base of everything that is raised on purpose; it survives the way from one process to another with all its fields."""

    def __reduce__(self) -> tuple[Any, ...]:
        return _again, (type(self), self.args, self.__dict__)


def _again(kind: type[SondarError], args: tuple[Any, ...], fields: dict[str, Any]) -> SondarError:
    error = kind.__new__(kind, *args)
    error.args = args
    error.__dict__.update(fields)
    return error


class RefusedError(SondarError):
    """A request that cannot be met.

    Attributes:
        title: what kind of refusal. detail: a sentence that says what to do. problems: the fields at fault.
        facts: what a program needs beside the words.
    """

    def __init__(self, title: str, detail: str, problems: Sequence[FieldProblem] = (), **facts: Any) -> None:
        self.title, self.detail, self.problems, self.facts = title, detail, list(problems), facts
        super().__init__(detail)


class InvalidError(RefusedError):
    """What was given is not right."""


class NotFoundError(RefusedError):
    """There is no such thing, or not for this workshop."""


class ConflictError(RefusedError):
    """Someone else was first, or a step comes before its time."""


class TooLargeError(RefusedError):
    """More than is taken."""


class UnavailableError(RefusedError):
    """A meter, a vehicle or an interface does not do its part."""


class BusyError(RefusedError):
    """More is asked for than can be worked on, or what works on it is being started again."""


def invalid(field: str, message: str, title: str = "Some fields are not right") -> InvalidError:
    """One field at fault."""
    return InvalidError(title, f"{field}: {message}", [FieldProblem((field,), message)])


class QuantityError(InvalidError):
    """Text that is not a value a technician could mean."""

    def __init__(self, text: str, expected: str) -> None:
        self.text = text
        self.expected = expected
        said = f"'{text}' is not a reading Sondar understands: expected {expected}"
        super().__init__("Reading not understood", said, [FieldProblem(("entry",), said)])


class CircuitDocumentError(InvalidError):
    """A circuit, vehicle or procedure document with one or more problems; ``problems`` lists all of them."""

    def __init__(self, problems: Sequence[FieldProblem]) -> None:
        first = problems[0]
        more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
        super().__init__("File not usable", f"{first.field or 'document'}: {first.message}{more}", problems)


class UnknownReferenceError(InvalidError):
    """A point, part, connector, control or fault that the circuit does not have."""

    def __init__(self, kind: str, name: str, known: list[str]) -> None:
        self.kind = kind
        self.name = name
        self.known = known
        listing = ", ".join(known[:12]) + (", …" if len(known) > 12 else "")
        said = f"no {kind} '{name}'; there are: {listing}"
        super().__init__(f"Unknown {kind}", said, [FieldProblem((kind,), said)])


class PlanTableError(InvalidError):
    """A fault–test table with one or more problems."""

    def __init__(self, problems: Sequence[FieldProblem]) -> None:
        first = problems[0]
        more = f" (and {len(problems) - 1} more)" if len(problems) > 1 else ""
        super().__init__("Table not usable", f"{first.field or 'table'}: {first.message}{more}", problems)


class UnsolvableNetworkError(SondarError):
    """The operating point could not be found (no convergence)."""

    def __init__(self, setup: str, detail: str) -> None:
        self.setup = setup
        super().__init__(f"no operating point for set-up '{setup}': {detail}")
