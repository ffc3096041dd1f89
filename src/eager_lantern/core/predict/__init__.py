"""What becomes of the promises of a site."""
