"""Protocols as state machines that never touch a socket."""
