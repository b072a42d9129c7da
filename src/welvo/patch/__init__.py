"""Giving addresses: the index of who is on which slot, laying out, and what a change does to others.

May import `runs`, `buses`, `settings`, `observed` and `protocols`.
"""
