"""What is done beside the window: hearing, output, pushing, and work with devices, lamps and buses."""
