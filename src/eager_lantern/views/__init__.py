"""Results in, text or pictures out."""
