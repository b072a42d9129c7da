"""The Profiles station: chart line, ruler, ranges, try-out, library.

May import `widgets` and the core; knows no other station.
"""
