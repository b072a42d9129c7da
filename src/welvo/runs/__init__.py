"""What is attached to ports: pixels along a cable, bridges, DMX lines, converters, power.

It may import `patch`, `protocols`, `observed` and `rig`.
"""
