"""Sockets: the output engine in a process of its own, the listener, discovery, links to devices.

May import everything below `live`. Binds to the interface the operator chose and to nothing else.
"""
