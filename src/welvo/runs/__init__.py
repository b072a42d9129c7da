"""What is attached to ports: sums along a cable, pixels, bridges, converters, power, and the edits of it.

May import `protocols`, `observed` and `rig`.
"""
