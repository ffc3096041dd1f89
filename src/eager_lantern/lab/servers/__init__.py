"""Servers that stand in for the real ones."""
