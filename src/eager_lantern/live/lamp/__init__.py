"""The lamp: lit ports, and the sweep over them."""
