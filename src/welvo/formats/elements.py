"""Elements of XML files."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from lxml.etree import _Element


def child_node(node: _Element, tag: str) -> _Element:
    """The first child of a name; where a file has none, as a file of somebody else may, it is added."""
    from lxml import etree  # not before a file is written: reading the program's own files needs none of it

    found = node.find(tag)
    return found if found is not None else etree.SubElement(node, tag)
