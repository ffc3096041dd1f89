"""Visits over SSH file transfer."""
