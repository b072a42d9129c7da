"""Doing what a fix says."""

from __future__ import annotations

from welvo.app.network import Network
from welvo.app.session import Session
from welvo.checks.registry import Fix


def run_fix(session: Session, network: Network, fix: Fix) -> None:
    """Do what a fix says: an edit of the rig, or a push to a device."""
    if fix.edit:
        session.attempt(fix.edit)
    elif fix.push:
        network.push(*fix.push)
