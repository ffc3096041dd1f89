"""The site file: read, checked, written, changed where it stands."""
