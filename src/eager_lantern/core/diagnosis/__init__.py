"""From what was seen to its causes, and to the test that would tell them apart."""
