"""The computation: value types and pure functions; no printing, files, sockets or clock."""
