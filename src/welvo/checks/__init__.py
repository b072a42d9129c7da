"""Findings: what is wrong, doubtful or worth knowing. One registry, one small function per rule.

May import `patch`, `protocols`, `observed` and `rig`.
"""
