"""A site of relays on loopback addresses."""
