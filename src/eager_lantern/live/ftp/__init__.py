"""Visits over FTP."""
