"""Results in, text out."""
