"""Files and texts: the rig file, the recovery journal, channel charts, device models.

May import `checks`, `patch`, `protocols`, `observed` and `rig`. Reads and writes files; opens no sockets.
"""
