"""The Runs station: riser, opened cable, segments.

May import `widgets` and the core; knows no other station.
"""
