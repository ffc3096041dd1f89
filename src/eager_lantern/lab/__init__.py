"""Rehearsal: the shipped stand-in server."""
