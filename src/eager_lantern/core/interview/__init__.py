"""The questions from which a first site file is written, and their answers."""
