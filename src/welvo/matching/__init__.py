"""What is planned beside what was seen: settings, lamps, gear, and what leaves a port. No Qt, no sockets."""
