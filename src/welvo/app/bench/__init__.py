"""The Bench station: faders, meant beside the wire beside the port, why it is dark.

May import `widgets` and the core; knows no other station.
"""
