"""Addresses: the index of who is on which slot, allocation, the path of one item.

May import `rig`, `observed` and `protocols`.
"""
