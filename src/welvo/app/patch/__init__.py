"""The Patch station: tapes, lens, list, pages, forms.

May import `widgets` and the core; knows no other station.
"""
