"""Lamp buses: what is planned on one, edits of it, and what its inputs do. No Qt, no sockets."""
