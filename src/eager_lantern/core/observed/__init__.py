"""What was observed of a real server, beside what was predicted."""
