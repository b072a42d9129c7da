"""What was seen and done: heard devices, reported settings, sources on the wire. Values, apart from the plan.

May import `rig`. Undo never touches what stands here.
"""
