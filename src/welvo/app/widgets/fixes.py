"""Doing what a fix says."""

from __future__ import annotations

from welvo.app.network import Wire
from welvo.app.session import Session
from welvo.checks.registry import Fix


def run_fix(session: Session, wire: Wire, fix: Fix) -> None:
    """Do what a fix says: an edit of the rig, or a push to a box."""
    if fix.edit:
        session.attempt(fix.edit)
    elif fix.push:
        wire.push(*fix.push)
