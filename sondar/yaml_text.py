"""YAML from people and from the network, read in bounded time and memory.

What a file may hold is checked on its events, before anything is built of them: a file of 400 bytes can mean a thousand million nodes
through aliases of aliases, and one of 10,000 opening brackets takes a reader with simple keys minutes to refuse.
"""

from __future__ import annotations

from dataclasses import dataclass
from io import StringIO
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.events import (
    AliasEvent,
    CollectionEndEvent,
    CollectionStartEvent,
    Event,
    NodeEvent,
    ScalarEvent,
)

MOST_BYTES = 512 * 1024
MOST_DEPTH = 24
MOST_NODES = 12_000
"""Ten times the largest circuit of the library; aliases count with all that they stand for."""
MOST_SCALAR = 8_000
"""Characters of one text or name."""


class YamlTextError(Exception):
    """The text cannot be read: what is wrong, and in which line if that is known."""

    def __init__(self, reason: str, line: int | None = None) -> None:
        super().__init__(reason)
        self.reason, self.line = reason, line


def load_yaml(text: str) -> Any:
    """Parse YAML 1.2; mappings and sequences know their lines.

    Raises:
        YamlTextError: not YAML, or more than anybody writes by hand.
    """
    if len(text.encode()) > MOST_BYTES:
        raise YamlTextError(f"larger than {MOST_BYTES // 1024} KiB: split it")
    _check_brackets(text)
    try:
        _check_events(text)
        return YAML(typ="rt").load(text)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        reason = error.problem or error.context or "not readable"
        raise YamlTextError(
            f"not valid YAML: {reason}; check indentation and colons", mark.line + 1 if mark is not None else None
        ) from error
    except (YAMLError, ValueError, RecursionError) as error:
        raise YamlTextError(f"not valid YAML: {error}") from error


def _check_brackets(text: str) -> None:
    """Opening brackets that are not closed again: a reader slows down with the square of their number before it says so."""
    depth, line = 0, 1
    for sign in text:
        if sign == "\n":
            line += 1
        elif sign in "[{":
            depth += 1
            if depth > 4 * MOST_DEPTH:
                raise YamlTextError(f"more than {4 * MOST_DEPTH} brackets are open at once", line)
        elif sign in "]}":
            depth = max(0, depth - 1)


@dataclass
class _Size:
    """What an anchor stands for, once it is complete."""

    anchor: str | None
    nodes: int = 1


def _check_events(text: str) -> None:
    open_now: list[_Size] = [_Size(None)]
    anchors: dict[str, int] = {}
    for event in YAML(typ="rt").parse(text):
        line = event.start_mark.line + 1
        if isinstance(event, CollectionStartEvent):
            open_now.append(_Size(event.anchor))
            if len(open_now) > MOST_DEPTH:
                raise YamlTextError(f"nested more than {MOST_DEPTH} deep", line)
        elif isinstance(event, CollectionEndEvent):
            done = open_now.pop()
            if done.anchor:
                anchors[done.anchor] = done.nodes
            open_now[-1].nodes += done.nodes
        elif isinstance(event, NodeEvent):
            open_now[-1].nodes += _nodes_of(event, anchors, line)
        if sum(size.nodes for size in open_now) > MOST_NODES:
            raise YamlTextError(f"more than {MOST_NODES} fields, aliases counted with all that they stand for", line)


def _nodes_of(event: Event, anchors: dict[str, int], line: int) -> int:
    if isinstance(event, AliasEvent):
        # One that is still open, an alias inside of what it names, would never end.
        if event.anchor not in anchors:
            raise YamlTextError(f"alias *{event.anchor} stands for nothing complete before it", line)
        return anchors[event.anchor]
    if isinstance(event, ScalarEvent):
        if len(event.value) > MOST_SCALAR:
            raise YamlTextError(f"a text of {len(event.value)} characters; at most {MOST_SCALAR}", line)
        if event.anchor:
            anchors[event.anchor] = 1
    return 1


def written_yaml(data: Any, *, compact: bool = True) -> str:
    """Plain data or a loaded file as text; comments and order of a loaded file stay.

    Args:
        compact: short mappings and lists in one line, as files that Sondar makes have them; else as they were in the loaded file.
    """
    writer = YAML()
    if compact:
        writer.default_flow_style = None
    writer.width = 140
    stream = StringIO()
    writer.dump(data, stream)
    return stream.getvalue()
