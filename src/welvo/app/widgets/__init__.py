"""What several stations use: forms, fields, tables, dialogs, marks, tints, faces, theme, painting.

May import the session, the network and the core; knows no station.
"""
