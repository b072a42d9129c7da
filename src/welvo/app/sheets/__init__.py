"""The Sheets station: paper with a true preview, versions and what changed between them.

May import `app.widgets`, the session and the core; knows no other station.
"""
