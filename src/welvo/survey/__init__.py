"""Reading the whole of a rig: the path of an item, comparing, lists as tables, capacity, traffic. No Qt, no sockets."""
