"""Logs as programs write them: lines, sessions over FTP and over SSH."""
