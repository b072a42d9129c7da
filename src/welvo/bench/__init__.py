"""Levels by function: what the operator holds, and the slots that follow from it.

May import `formats`, `checks`, `patch`, `protocols`, `observed` and `rig`.
"""
