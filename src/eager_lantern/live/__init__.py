"""Sockets: real sessions."""
