"""Packets as a host of a lab sends and receives them."""
