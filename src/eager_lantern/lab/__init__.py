"""Rehearsal: the shipped stand-in server, and sites built in network namespaces."""
