"""Formats read and written: the site file, devices, results."""
