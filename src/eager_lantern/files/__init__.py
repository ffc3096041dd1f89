"""Formats read and written."""
