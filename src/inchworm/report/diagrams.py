"""Lineage as text that drawing tools read: DOT (Graphviz) and Mermaid."""

from __future__ import annotations

from collections.abc import Iterable

from inchworm.core.lineage.graph import Edge, How, Node

_DASHES = {How.COPIED: "solid", How.COMPUTED: "solid", How.ROWS: "dashed", How.WHOLE: "dotted"}


def dot_document(edges: Iterable[Edge]) -> str:
    """A directed graph from left to right; parts are boxes, columns are plain."""
    edges = list(edges)
    lines = ["digraph lineage {", "  rankdir=LR;", '  node [fontname="sans-serif"];']
    lines += [
        f"  {_quoted(node)} [shape={'box' if node.is_part else 'plaintext'}];"
        for node in _nodes(edges)
    ]
    lines += [
        f"  {_quoted(edge.source)} -> {_quoted(edge.target)} "
        f"[label={edge.how.value}, style={_DASHES[edge.how]}];"
        for edge in edges
    ]
    return "\n".join([*lines, "}"])


def mermaid_document(edges: Iterable[Edge]) -> str:
    """A flowchart from left to right."""
    edges = list(edges)
    ids = {node: f"n{i}" for i, node in enumerate(_nodes(edges))}
    lines = ["flowchart LR"]
    for node, id_ in ids.items():
        text = str(node).replace('"', "#quot;")
        lines.append(f'  {id_}[["{text}"]]' if node.is_part else f'  {id_}["{text}"]')
    lines += [
        f"  {ids[e.source]} {'-->' if e.how in (How.COPIED, How.COMPUTED) else '-.->'}"
        f"|{e.how.value}| {ids[e.target]}"
        for e in edges
    ]
    return "\n".join(lines)


def _nodes(edges: Iterable[Edge]) -> list[Node]:
    return sorted({node for edge in edges for node in (edge.source, edge.target)}, key=str)


def _quoted(node: Node) -> str:
    text = str(node).replace("\\", "\\\\").replace('"', '\\"')
    return f'"{text}"'
