"""Settings of devices: how each is read from what a device says of itself, put into a push, and held against the plan.

May import `protocols`, `observed` and `rig`. No sockets, no clocks.
"""
