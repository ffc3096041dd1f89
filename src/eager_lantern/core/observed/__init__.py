"""What was seen of a real server, as values."""
